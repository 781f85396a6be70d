// Holds values against JSON Schemas, by a judge that is not ours.
// node verdicts.cjs PEERS < LINES: each line is {"draft": …, "schema": …, "values": […]}; prints a line with one digit
// for each value, 1 for valid, or why the schema cannot be compiled.
const { createRequire } = require('node:module');
const from = createRequire(require('node:path').resolve(process.argv[2], 'package.json'));
const judges = { '2020-12': 'ajv/dist/2020', '2019-09': 'ajv/dist/2019', 7: 'ajv', 4: 'ajv-draft-04' };

for (const line of require('node:fs').readFileSync(0, 'utf8').trim().split('\n')) {
  const { draft, schema, values } = JSON.parse(line);
  const Ajv = from(judges[draft]);
  try {
    const holds = new (Ajv.default || Ajv)({ strict: false, logger: false }).compile(schema);
    console.log(values.map((value) => (holds(value) ? '1' : '0')).join(''));
  } catch (wrong) {
    console.log(wrong.message);
  }
}
