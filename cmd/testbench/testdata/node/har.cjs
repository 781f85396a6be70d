// Holds HTTP Archives against the schema of version 1.2: node har.cjs PEERS FILE ...
const fs = require('node:fs');
const { createRequire } = require('node:module');
const [peers, ...files] = process.argv.slice(2);
const from = createRequire(require('node:path').resolve(peers, 'package.json'));
const { har } = from('har-validator/lib/promise');
Promise.all(files.map(async (file) => {
  const archive = JSON.parse(fs.readFileSync(file, 'utf8'));
  await har(archive);
  console.log(`${archive.log.entries.length} entries`);
})).catch((error) => {
  console.error(JSON.stringify(error.errors || String(error)));
  process.exit(1);
});
