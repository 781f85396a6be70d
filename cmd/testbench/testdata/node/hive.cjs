// A SOAP service of a third hand: node-soap's server on the same contract as PHP's.
const http = require("http");
const fs = require("fs");
const soap = require(process.argv[3] + "/node_modules/soap");

const weigh = (input) => {
  const frames = [].concat(input.frames).map(Number);
  if (input.hive === "H-0") {
    throw { Fault: { faultcode: "soap:Client", faultstring: "hive H-0 is empty", detail: { HiveFault: { attributes: { xmlns: "urn:heatherfold:hive" }, hive: "H-0" } } } };
  }
  return { hive: input.hive, kilos: (frames.reduce((sum, n) => sum + n, 0) * 2.45).toFixed(2), keeper: "nobody" };
};
const server = http.createServer((_, response) => response.end());
server.listen(Number(process.argv[2]), "127.0.0.1", () => {
  soap.listen(server, "/hive", { Hive: { HivePort: { Weigh: weigh } } }, fs.readFileSync(process.argv[4], "utf8"));
});
