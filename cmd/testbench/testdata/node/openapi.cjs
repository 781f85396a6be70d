// Holds requests against OpenAPI descriptions: what is read of them is not ours.
// node openapi.cjs PORT PEERS FOLDER
// FOLDER/N.json is served below /N: 200 for a request that holds, else 400 or 415 with
// what is wrong.
const fs = require('node:fs');
const { createRequire } = require('node:module');
const [port, peers, folder] = process.argv.slice(2);
const from = createRequire(peers + '/package.json');
const express = from('express');
const validator = from('express-openapi-validator');

// served makes a server for one description.
function served(name, apiSpec) {
  const app = express();
  app.use(express.json({ limit: '9mb', type: (r) => /[/+]json/.test(r.headers['content-type'] || ''), strict: false }));
  app.use(express.urlencoded({ extended: false }));
  app.use(express.text({ type: (r) => /^text\/|xml/.test(r.headers['content-type'] || '') }));
  app.use(express.raw({ type: ['application/octet-stream', 'image/*', 'application/pdf'] }));
  apiSpec.servers = [{ url: '/' + name }];
  for (const path of Object.values(apiSpec.paths)) {
    delete path.servers;
    for (const operation of Object.values(path)) if (operation) delete operation.servers;
  }
  app.use(validator.middleware({ apiSpec, validateApiSpec: false, validateSecurity: false, validateResponses: false, fileUploader: { dest: folder + '/../uploads' } }));
  app.use((request, response) => response.json({ held: true }));
  app.use((wrong, request, response, next) => response.status(wrong.status || 500).json({ error: { message: wrong.message, details: wrong.errors } }));
  return app;
}

const apps = {};
const whole = express();
whole.use((request, response) => {
  const name = request.url.split(/[/?]/)[1];
  apps[name] ||= served(name, JSON.parse(fs.readFileSync(`${folder}/${name}.json`, 'utf8')));
  apps[name](request, response);
});
whole.listen(Number(port), '127.0.0.1');
