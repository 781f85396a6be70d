// Holds values against JSON Schemas: what is read of them is not ours.
// node schemas.cjs PEERS SCHEMA VALUE ...: prints what is wrong, and ends with 1.
const fs = require('node:fs');
const { createRequire } = require('node:module');
const [peers, ...files] = process.argv.slice(2);
const from = createRequire(require('node:path').resolve(peers, 'package.json'));
const read = (file) => JSON.parse(fs.readFileSync(file, 'utf8'));
const judges = { '2020-12': 'ajv/dist/2020', '2019-09': 'ajv/dist/2019', 'draft-07': 'ajv', 'draft-06': 'ajv', 'draft-04': 'ajv-draft-04' };

let notCompiled = 0;
for (let i = 0; i < files.length; i += 2) {
  const schema = read(files[i]);
  const draft = Object.keys(judges).find((name) => (schema.$schema || '2020-12').includes(name));
  const Ajv = from(judges[draft]);
  const ajv = new (Ajv.default || Ajv)({ strict: false, allErrors: true });
  if (draft === 'draft-06') ajv.addMetaSchema(from('ajv/dist/refs/json-schema-draft-06.json'));
  (from('ajv-formats').default || from('ajv-formats'))(ajv);
  let holds;
  try {
    holds = ajv.compile(schema);
  } catch (wrong) {
    notCompiled++;
    console.log(`${files[i]} cannot be compiled: ${wrong.message}`);
    continue;
  }
  if (!holds(read(files[i + 1]))) {
    console.log(files[i], ajv.errorsText(holds.errors));
    process.exitCode = 1;
  }
}
console.log(`${notCompiled} of ${files.length / 2} cannot be compiled`);
