// Says whether a file is a valid OpenAPI description.
import { createRequire } from "node:module";
import { pathToFileURL } from "node:url";
import { readFileSync } from "node:fs";

const [, , peers, file] = process.argv;
const require = createRequire(pathToFileURL(peers + "/package.json"));
const { Validator } = await import(pathToFileURL(require.resolve("@seriousme/openapi-schema-validator")));
const result = await new Validator().validate(JSON.parse(readFileSync(file, "utf8")));
if (!result.valid) {
  console.error(JSON.stringify(result.errors, null, 1));
  process.exit(1);
}
