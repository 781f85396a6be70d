// Finds with json-p3 what queries find in a document: node find.cjs PEERS FILE
const { readFileSync } = require('node:fs');
const [peers, file] = process.argv.slice(2);
const { query } = require(`${peers}/node_modules/json-p3`);

const { document, queries } = JSON.parse(readFileSync(file, 'utf8'));
console.log(JSON.stringify(queries.map((asked) => {
  try {
    return { found: query(asked, document).nodes.map((node) => JSON.stringify(node.value)) };
  } catch (error) {
    return { refused: String(error.message) };
  }
})));
