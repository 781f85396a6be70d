// Methods called by name, by servers that are not ours: JSON-RPC 2.0 and 1.0, and XML-RPC.
// node methods.cjs JSONPORT OLDPORT XMLPORT PEERS
const { createRequire } = require('node:module');
const [jsonPort, oldPort, xmlPort, peers] = process.argv.slice(2);
const from = createRequire(peers + '/package.json');
const jayson = from('jayson');
const xmlrpc = from('xmlrpc');

const methods = {
  grade: ({ moisture }, done) => (moisture > 20 ? done({ code: 1422, message: 'too moist', data: { field: 'moisture' } }) : done(null, { grade: 'A', moisture })),
  sum: (numbers, done) => done(null, numbers.reduce((a, b) => a + b, 0)),
};
new jayson.Server(methods).http().listen(Number(jsonPort), '127.0.0.1');
new jayson.Server(methods, { version: 1 }).http().listen(Number(oldPort), '127.0.0.1');

const server = xmlrpc.createServer({ host: '127.0.0.1', port: Number(xmlPort) });
server.on('grade', (err, [lot], done) => (lot.moisture > 20
  ? done({ faultCode: 1422, faultString: 'too moist' })
  : done(null, { grade: 'A', lot, day: new Date(Date.UTC(2026, 10, 23, 8, 0, 0)), raw: Buffer.from('honey') })));
server.on('sum', (err, numbers, done) => done(null, numbers.reduce((a, b) => a + b, 0)));
