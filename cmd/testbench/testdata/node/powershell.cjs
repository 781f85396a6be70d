// Reads scripts of PowerShell by a grammar that is not ours.
// node powershell.cjs PEERS FILE ...: says which cannot be read, and ends with 1.
const fs = require('node:fs');
const { createRequire } = require('node:module');
const [peers, ...files] = process.argv.slice(2);
const from = createRequire(require('node:path').resolve(peers, 'package.json'));
const { Parser, Language } = from('web-tree-sitter');

(async () => {
  await Parser.init();
  const parser = new Parser();
  parser.setLanguage(await Language.load(from.resolve('tree-sitter-powershell/tree-sitter-powershell.wasm')));
  for (const file of files) {
    const { rootNode } = parser.parse(fs.readFileSync(file, 'utf8'));
    if (rootNode.hasError) {
      console.log(`${file} cannot be read: ${rootNode.toString()}`);
      process.exitCode = 1;
    }
  }
})();
