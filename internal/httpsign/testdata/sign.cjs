// Verifies a signed request, and signs it anew: node sign.cjs PEERS FILE
const { readFileSync } = require('node:fs');
const { createPrivateKey, createPublicKey } = require('node:crypto');
const [peers, file] = process.argv.slice(2);
const { httpbis, createSigner, createVerifier } = require(`${peers}/node_modules/http-message-signatures`);

const asked = JSON.parse(readFileSync(file, 'utf8'));
const shared = asked.algorithm === 'hmac-sha256';
const key = shared ? Buffer.from(asked.key, 'base64') : createPrivateKey(asked.key);
const open = shared ? key : createPublicKey(asked.key);
const request = { method: asked.method, url: asked.url, headers: asked.headers };

(async () => {
  const verified = await httpbis.verifyMessage({
    keyLookup: async () => ({ id: 'one', algs: [asked.algorithm], verify: createVerifier(open, asked.algorithm) }),
  }, request);
  const bare = { ...request, headers: Object.fromEntries(Object.entries(asked.headers).filter(([name]) => !name.startsWith('signature'))) };
  const signed = await httpbis.signMessage({ key: createSigner(key, asked.algorithm, 'one'), fields: ['@method', '@path', '@query', 'content-type', 'content-digest'] }, bare);
  const field = (name) => Object.entries(signed.headers).find(([key]) => key.toLowerCase() === name)[1];
  console.log(JSON.stringify({ verified, input: field('signature-input'), made: field('signature') }));
})().catch((error) => { console.error(error); process.exit(1); });
