"""A server of OAuth 1.0 (RFC 5849) by oauthlib: python3 oauth1.py PORT RSA_PUBLIC_KEY_FILE

It gives temporary credentials, agrees at once, gives tokens, and says at /protected which client and token it let in."""
import http.server
import json
import sys
import urllib.parse

from oauthlib.oauth1 import (
    SIGNATURE_HMAC_SHA1, SIGNATURE_HMAC_SHA256, SIGNATURE_HMAC_SHA512, SIGNATURE_PLAINTEXT, SIGNATURE_RSA_SHA1,
    SIGNATURE_RSA_SHA256, RequestValidator, WebApplicationServer,
)

PUBLIC = open(sys.argv[2]).read()
SECRET, TOKEN_SECRET = "hive & comb/41", "nectar+7 %"
temporary, tokens, used = {}, {"T-given": TOKEN_SECRET}, set()


class Validator(RequestValidator):
    enforce_ssl = False
    allowed_signature_methods = [
        SIGNATURE_HMAC_SHA1, SIGNATURE_HMAC_SHA256, SIGNATURE_HMAC_SHA512, SIGNATURE_PLAINTEXT, SIGNATURE_RSA_SHA1,
        SIGNATURE_RSA_SHA256,
    ]
    realms = ["hives", ""]

    def check_client_key(self, client_key): return client_key == "desk-1"
    check_request_token = check_access_token = lambda self, token: bool(token)
    check_nonce = lambda self, nonce: len(nonce) >= 8
    check_verifier = lambda self, verifier: bool(verifier)
    check_realms = lambda self, realms: True

    @property
    def dummy_client(self): return "dummy"
    dummy_request_token = dummy_access_token = dummy_client

    def validate_client_key(self, client_key, request): return client_key == "desk-1"

    def validate_timestamp_and_nonce(self, client_key, timestamp, nonce, request, request_token=None, access_token=None):
        key = (client_key, timestamp, nonce, request_token, access_token)
        fresh = key not in used
        used.add(key)
        return fresh

    def validate_request_token(self, client_key, token, request): return token in temporary
    def validate_access_token(self, client_key, token, request): return token in tokens
    def get_client_secret(self, client_key, request): return SECRET
    def get_request_token_secret(self, client_key, token, request): return temporary.get(token, {}).get("secret", "")
    def get_access_token_secret(self, client_key, token, request): return tokens.get(token, "")
    def get_rsa_key(self, client_key, request): return PUBLIC
    def get_default_realms(self, client_key, request): return []
    def get_realms(self, token, request): return []
    def get_redirect_uri(self, token, request): return temporary[token]["callback"]
    def validate_redirect_uri(self, client_key, redirect_uri, request): return redirect_uri.startswith("http://127.0.0.1:")
    def validate_requested_realms(self, client_key, realms, request): return True
    def validate_realms(self, client_key, token, request, uri=None, realms=None): return True
    def verify_realms(self, token, realms, request): return True
    def verify_request_token(self, token, request): return token in temporary
    def validate_verifier(self, client_key, token, verifier, request): return temporary[token].get("verifier") == verifier
    def invalidate_request_token(self, client_key, request_token, request): temporary.pop(request_token, None)
    def save_request_token(self, token, request):
        temporary[token["oauth_token"]] = {"secret": token["oauth_token_secret"], "callback": request.redirect_uri}
    def save_verifier(self, token, verifier, request): temporary[token]["verifier"] = verifier["oauth_verifier"]
    def save_access_token(self, token, request): tokens[token["oauth_token"]] = token["oauth_token_secret"]


server = WebApplicationServer(Validator())


class Handler(http.server.BaseHTTPRequestHandler):
    def handle_all(self):
        body = self.rfile.read(int(self.headers.get("Content-Length") or 0)).decode("latin-1")
        uri = f"http://{self.headers['Host']}{self.path}"
        headers = {name: value for name, value in self.headers.items()}
        path = urllib.parse.urlsplit(self.path).path
        form = body if headers.get("Content-Type", "").startswith("application/x-www-form-urlencoded") else ""
        if path == "/temporary":
            got = server.create_request_token_response(uri, self.command, form, headers)
        elif path == "/authorize":
            got = server.create_authorization_response(uri, "GET", form, headers, realms=[])
        elif path == "/token":
            got = server.create_access_token_response(uri, self.command, form, headers)
        else:
            ok, request = server.validate_protected_resource_request(uri, self.command, form, headers, realms=["hives"])
            got = ({"Content-Type": "application/json"}, json.dumps({
                "client": request.client_key, "token": request.resource_owner_key, "method": request.signature_method,
            }), 200) if ok else ({"WWW-Authenticate": 'OAuth realm="hives"'}, "", 401)
        headers, text, status = got
        data = (text or "").encode()
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name, value)
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    do_GET = do_POST = do_PUT = do_DELETE = handle_all

    def log_message(self, *args): pass


http.server.ThreadingHTTPServer(("127.0.0.1", int(sys.argv[1])), Handler).serve_forever()
