# An OAuth 2.0 server by authlib: python3 gate.py PORT PUBLIC_KEY
# It says of each token whom it is for and by which grant; a code is agreed to at /agree.
import os
import sys
import time

os.environ['AUTHLIB_INSECURE_TRANSPORT'] = '1'  # it stays on this machine

from authlib.integrations.flask_oauth2 import AuthorizationServer
from authlib.oauth2.rfc6749 import grants, ClientMixin, TokenMixin
from authlib.oauth2.rfc7009 import RevocationEndpoint
from authlib.oauth2.rfc7523 import JWTBearerClientAssertion, JWTBearerGrant
from authlib.oauth2.rfc7636 import CodeChallenge
from authlib.oauth2.rfc7662 import IntrospectionEndpoint
from authlib.oauth2.rfc8628 import DeviceAuthorizationEndpoint, DeviceCodeGrant, DeviceCredentialDict
from flask import Flask, redirect, request

port, public = sys.argv[1], open(sys.argv[2]).read()
root = f'http://127.0.0.1:{port}'
app = Flask(__name__)
app.config['OAUTH2_REFRESH_TOKEN_GENERATOR'] = True
tokens, codes, devices, seen = {}, {}, {}, set()


WAYS = ['client_secret_basic', 'client_secret_post', 'private_key_jwt']


class Client(ClientMixin):
    def __init__(self, name, secret, ways):
        self.name, self.secret, self.ways = name, secret, ways

    def get_client_id(self): return self.name
    def get_default_redirect_uri(self): return None
    def get_allowed_scope(self, scope): return ' '.join(s for s in (scope or '').split() if s in ('honey', 'wax'))
    def check_redirect_uri(self, uri): return uri.startswith('http://127.0.0.1:')
    def check_client_secret(self, secret): return secret == self.secret
    def check_endpoint_auth_method(self, method, endpoint): return method in self.ways
    def check_response_type(self, kind): return kind == 'code'
    def check_grant_type(self, kind): return True


class Token(TokenMixin):
    def __init__(self, data, client, user):
        self.data, self.client, self.user, self.at, self.revoked = data, client, user, time.time(), False

    def check_client(self, client): return self.client == client.name
    def get_scope(self): return self.data.get('scope', '')
    def get_expires_in(self): return self.data['expires_in']
    def is_expired(self): return time.time() > self.at + self.data['expires_in']
    def is_revoked(self): return self.revoked


def save(data, asked):
    token = Token(data, asked.client.name, asked.user or '')
    for name in ('access_token', 'refresh_token'):
        if data.get(name):
            tokens[data[name]] = token


server = AuthorizationServer(app, query_client=lambda name: clients.get(name), save_token=save)


class Password(grants.ResourceOwnerPasswordCredentialsGrant):
    TOKEN_ENDPOINT_AUTH_METHODS = ['client_secret_basic', 'client_secret_post']

    def authenticate_user(self, name, password):
        return name if (name, password) == ('Bryony Weiß', 'nectar & comb') else None


class Refresh(grants.RefreshTokenGrant):
    INCLUDE_NEW_REFRESH_TOKEN = True
    TOKEN_ENDPOINT_AUTH_METHODS = ['client_secret_basic', 'client_secret_post', 'none']

    def authenticate_refresh_token(self, text):
        token = tokens.get(text)
        return token if token and not token.revoked and token.data.get('refresh_token') == text else None

    def authenticate_user(self, token): return token.user
    def revoke_old_credential(self, token): token.revoked = True


class Code(grants.AuthorizationCodeGrant):
    TOKEN_ENDPOINT_AUTH_METHODS = ['client_secret_basic', 'none']

    def save_authorization_code(self, code, asked):
        codes[code] = type('C', (), dict(
            client=asked.client.name, user=asked.user, code_challenge=asked.data.get('code_challenge'),
            code_challenge_method=asked.data.get('code_challenge_method'),
            get_redirect_uri=lambda self: asked.redirect_uri, get_scope=lambda self: asked.scope))()

    def query_authorization_code(self, code, client): return codes.get(code)
    def delete_authorization_code(self, code): codes.clear()
    def authenticate_user(self, code): return code.user


class Device(DeviceCodeGrant):
    def query_device_credential(self, code): return devices.get(code)
    def query_user_grant(self, code): return next((d['agreed'] for d in devices.values() if d['user_code'] == code and 'agreed' in d), None)

    def should_slow_down(self, credential):
        first = 'slowed' not in credential
        credential['slowed'] = True
        return first


class Devices(DeviceAuthorizationEndpoint):
    INTERVAL = 1

    def get_verification_uri(self): return root + '/agree'

    def save_device_credential(self, client, scope, data):
        devices[data['device_code']] = DeviceCredentialDict(
            client_id=client, scope=scope, expires_at=int(time.time()) + data['expires_in'], **data)


class Assertion(JWTBearerClientAssertion):
    def validate_jti(self, claims, jti):
        fresh = jti not in seen
        seen.add(jti)
        return fresh

    def resolve_client_public_key(self, client, headers): return public


clients = {c.name: c for c in (
    Client('desk: ä', 'comb & nectar/77 +%', ('client_secret_post',)),
    Client('raw ä', 'comb & nectar/77 +%', ('client_secret_basic',)),
    Client('scales', '', ('none',)), Client('key', '', ('private_key_jwt', Assertion.CLIENT_AUTH_METHOD)),
)}


class Bearer(JWTBearerGrant):
    def resolve_issuer_client(self, issuer): return clients.get(issuer)
    def resolve_client_key(self, client, headers, payload): return public
    def authenticate_user(self, subject): return subject
    def has_granted_permission(self, client, user): return True


class Introspection(IntrospectionEndpoint):
    CLIENT_AUTH_METHODS = WAYS

    def query_token(self, text, hint): return tokens.get(text)
    def check_permission(self, token, client, asked): return True
    def introspect_token(self, token): return {'active': True, 'username': token.user, 'client_id': token.client}


class Revocation(RevocationEndpoint):
    CLIENT_AUTH_METHODS = WAYS

    def query_token(self, text, hint): return tokens.get(text)
    def revoke_token(self, token, asked): token.revoked = True


for grant in (grants.ClientCredentialsGrant, Password, Refresh, Device, Bearer):
    server.register_grant(grant)
grants.ClientCredentialsGrant.TOKEN_ENDPOINT_AUTH_METHODS = WAYS
server.register_grant(Code, [CodeChallenge(required=True)])
for endpoint in (Devices, Introspection, Revocation):
    server.register_endpoint(endpoint)
server.register_client_auth_method('private_key_jwt', Assertion(root + '/token'))


@app.post('/token')
def token(): return server.create_token_response()


@app.post('/device')
def device(): return server.create_endpoint_response('device_authorization')


@app.post('/introspect')
def introspect(): return server.create_endpoint_response('introspection')


@app.post('/revoke')
def revoke(): return server.create_endpoint_response('revocation')


@app.get('/authorize')
def authorize(): return server.create_authorization_response(grant_user='Bryony')


@app.get('/agree')
def agree():
    for one in devices.values():
        if one['user_code'] == request.args['user_code']:
            one['agreed'] = ('Bryony', request.args.get('no') is None)
    return 'agreed'


@app.get('/me')
def me():
    held = tokens.get(request.headers.get('Authorization', '').removeprefix('Bearer '))
    if not held or held.revoked:
        return {'error': 'invalid_token'}, 401
    return {'client': held.client, 'user': held.user, 'scope': held.get_scope()}


app.run('127.0.0.1', int(port))
