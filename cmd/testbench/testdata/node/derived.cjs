// A server that signs each request anew by a signing library of the registry, with a key derived in steps, and
// says whether that gives the signature that came; /words gives the words of the library's scheme:
// node derived.cjs PORT PEERS SECRET
const http = require("node:http");
const crypto = require("node:crypto");
const { createRequire } = require("node:module");
const [port, peers, secret] = process.argv.slice(2);
const load = createRequire(peers + "/");
const library = load("@smithy/signature-v4");
const { HttpRequest } = load("@smithy/protocol-http");

class Sha256 {
  constructor(key) { this.hash = key ? crypto.createHmac("sha256", key) : crypto.createHash("sha256"); }
  update(data) { this.hash.update(data); }
  async digest() { return new Uint8Array(this.hash.digest()); }
}

const signer = new library.SignatureV4({
  service: "hives", region: "eu-moor-1", sha256: Sha256, applyChecksum: false,
  credentials: { accessKeyId: "HONEYDESK", secretAccessKey: secret },
});

http.createServer((request, response) => {
  const chunks = [];
  request.on("data", (chunk) => chunks.push(chunk));
  request.on("end", async () => {
    const answer = (status, body) => {
      response.writeHead(status, { "Content-Type": "application/json" });
      response.end(JSON.stringify(body));
    };
    if (request.url === "/words") {
      const name = library.ALGORITHM_IDENTIFIER;
      return answer(200, { name, before: name.split("-")[0], last: library.KEY_TYPE_IDENTIFIER, stamp: library.AMZ_DATE_HEADER });
    }
    try {
      const came = request.headers.authorization || "";
      const names = (/SignedHeaders=([^,]*)/.exec(came) || ["", ""])[1].split(";");
      const at = new URL(request.url, "http://" + request.headers.host);
      const query = {};
      for (const [name, value] of at.searchParams) {
        query[name] = name in query ? [].concat(query[name], value) : value;
      }
      const headers = {};
      for (const name of names) headers[name] = request.headers[name];
      const stamp = request.headers[library.AMZ_DATE_HEADER];
      const date = new Date(stamp.replace(/^(\d{4})(\d\d)(\d\d)T(\d\d)(\d\d)(\d\d)Z$/, "$1-$2-$3T$4:$5:$6Z"));
      const signed = await signer.sign(new HttpRequest({
        method: request.method, protocol: "http:", hostname: at.hostname, path: request.url.split("?")[0], query, headers,
        body: Buffer.concat(chunks),
      }), { signingDate: date });
      const fits = signed.headers.authorization === came;
      return answer(fits ? 200 : 403, fits ? { ok: true } : { came, wanted: signed.headers.authorization });
    } catch (error) {
      return answer(400, { error: String(error) });
    }
  });
}).listen(Number(port), "127.0.0.1");
