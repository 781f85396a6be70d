// An OpenID-certified authorization server, and a service that takes its tokens.
// node issuer.mjs PORT PEERS CERTIFICATES
import { createServer } from 'node:https';
import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { pathToFileURL } from 'node:url';
import { X509Certificate, createPublicKey } from 'node:crypto';

const [port, peers, dir] = process.argv.slice(2);
const require = createRequire(peers + '/package.json');
const { Provider, errors } = await import(pathToFileURL(require.resolve('oidc-provider')));
const read = (name) => readFileSync(`${dir}/${name}`, 'utf8');
const issuer = `https://localhost:${port}`;
const jwk = createPublicKey(read('client.pem')).export({ format: 'jwk' });
const client = (id, more) => ({
  client_id: id, grant_types: ['client_credentials'], redirect_uris: [], response_types: [], scope: 'honey', ...more,
});
const SECRET = 'comb & nectar/77 with more than 32 letters';
const native = { application_type: 'native', redirect_uris: ['http://127.0.0.1/back'], response_types: ['code'], scope: 'openid offline_access honey' };

const provider = new Provider(issuer, {
  clients: [
    client('basic', { client_secret: SECRET, token_endpoint_auth_method: 'client_secret_basic' }),
    client('form', { client_secret: SECRET, token_endpoint_auth_method: 'client_secret_post' }),
    client('secret jwt', { client_secret: SECRET, token_endpoint_auth_method: 'client_secret_jwt' }),
    client('key jwt', { token_endpoint_auth_method: 'private_key_jwt', jwks: { keys: [{ ...jwk, kid: 'one', use: 'sig' }] } }),
    client('certificate', { token_endpoint_auth_method: 'self_signed_tls_client_auth', tls_client_certificate_bound_access_tokens: true,
      jwks: { keys: [{ ...jwk, x5c: [new X509Certificate(read('client.pem')).raw.toString('base64')] }] } }),
    client('proven', { client_secret: SECRET, dpop_bound_access_tokens: true }),
    client('phone', { token_endpoint_auth_method: 'none', grant_types: ['authorization_code', 'refresh_token'], ...native }),
    client('scales', { token_endpoint_auth_method: 'none', grant_types: ['urn:ietf:params:oauth:grant-type:device_code', 'refresh_token'], ...native, redirect_uris: [], response_types: [] }),
    client('signing', { token_endpoint_auth_method: 'private_key_jwt', jwks: { keys: [{ ...jwk, kid: 'one', use: 'sig' }] },
      require_signed_request_object: true, request_object_signing_alg: 'ES256', authorization_signed_response_alg: 'RS256',
      grant_types: ['authorization_code', 'refresh_token'], authorization_details_types: ['lots'], ...native }),
    client('swap', { client_secret: SECRET, grant_types: ['client_credentials', 'urn:ietf:params:oauth:grant-type:token-exchange'] }),
  ],
  clientAuthMethods: ['none', 'client_secret_basic', 'client_secret_post', 'client_secret_jwt', 'private_key_jwt', 'self_signed_tls_client_auth'],
  scopes: ['openid', 'offline_access', 'honey'],
  features: {
    clientCredentials: { enabled: true }, deviceFlow: { enabled: true }, introspection: { enabled: true }, revocation: { enabled: true },
    dPoP: { enabled: true, nonceSecret: Buffer.alloc(32, 7), requireNonce: () => true },
    mTLS: { enabled: true, certificateBoundAccessTokens: true, selfSignedTlsClientAuth: true,
      getCertificate: (ctx) => { const c = ctx.req.socket.getPeerCertificate(); return c.raw ? new X509Certificate(c.raw) : undefined; } },
    resourceIndicators: { enabled: true, defaultResource: () => undefined, useGrantedResource: () => true,
      getResourceServerInfo: (ctx, resource) => {
        if (resource !== 'https://stores.heatherfold.example/') throw new errors.InvalidTarget();
        return { scope: 'honey', audience: 'stores', accessTokenFormat: 'jwt', accessTokenTTL: 600 };
      } },
    devInteractions: { enabled: true },
    requestObjects: { enabled: true }, jwtResponseModes: { enabled: true },
    richAuthorizationRequests: { enabled: true, types: { lots: { validate: (ctx, detail) => {
      if (!Array.isArray(detail.actions)) throw new errors.InvalidAuthorizationDetails('actions are missing');
    } } },
    authorizationDetailsForGrantSource: (ctx, source) => JSON.parse(ctx.oidc.params.authorization_details ?? '[]'),
    authorizationDetailsForAccessToken: (ctx, token, source) => source?.authorizationDetails ?? source?.rar,
    authorizationDetailsForIntrospection: (ctx, token) => token.authorizationDetails ?? token.rar },
    pushedAuthorizationRequests: { enabled: true, requirePushedAuthorizationRequests: true },
  },
  ttl: { AccessToken: 600, ClientCredentials: 600, DeviceCode: 300, RefreshToken: 600, Session: 600, Interaction: 600, Grant: 600, IdToken: 600 },
  issueRefreshToken: () => true,
});

// Token exchange (RFC 8693) is not built in: the server's own hook makes it.
provider.registerGrantType('urn:ietf:params:oauth:grant-type:token-exchange', async (ctx) => {
  const { subject_token: text, subject_token_type: type } = ctx.oidc.params;
  if (type !== 'urn:ietf:params:oauth:token-type:access_token') throw new errors.InvalidRequest('subject_token_type');
  const subject = await ctx.oidc.provider.ClientCredentials.find(text);
  if (!subject) throw new errors.InvalidGrant('the subject token is not known');
  const token = new ctx.oidc.provider.ClientCredentials({ client: ctx.oidc.client, scope: 'honey' });
  ctx.body = { access_token: await token.save(), issued_token_type: type, token_type: 'Bearer', expires_in: token.expiration, scope: 'honey' };
}, ['subject_token', 'subject_token_type', 'actor_token', 'actor_token_type', 'requested_token_type']);

provider.on('server_error', (ctx, error) => console.error(error));
const callback = provider.callback();
createServer({ key: read('server-key.pem'), cert: read('server.pem'), requestCert: true, rejectUnauthorized: false }, callback).listen(Number(port), '127.0.0.1');
