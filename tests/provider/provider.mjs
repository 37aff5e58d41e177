// An OpenID provider on loopback, as tests need it: its first argument is the port. Each line on standard input is
// {"keys": true} to sign with new keys, or {"mode": "..."} for a provider that is slow, gone or lies.
import { createServer } from 'node:http';
import { createInterface } from 'node:readline';
import { generateKeyPairSync } from 'node:crypto';
import Provider, { errors } from 'oidc-provider';

const port = Number(process.argv[2]);
const issuer = `http://127.0.0.1:${port}`;
const HOUSE = {
  ash: ['member'], fern: ['member'], hazel: ['keeper'], wren: [],
};
const RESOURCES = {
  'https://kilnhouse.example/es': { accessTokenFormat: 'jwt', jwt: { sign: { alg: 'ES256' } } },
  'https://kilnhouse.example/rs': { accessTokenFormat: 'jwt', jwt: { sign: { alg: 'RS256' } } },
  'https://kilnhouse.example/opaque': { accessTokenFormat: 'opaque' },
  'https://elsewhere.example/': { accessTokenFormat: 'jwt', jwt: { sign: { alg: 'ES256' } } },
};
const SCOPES = 'reading:write reading:read orders';
let turn = 0;
let mode = 'well';

function keys() {
  turn += 1;
  const made = [['RS256', generateKeyPairSync('rsa', { modulusLength: 2048 })],
    ['ES256', generateKeyPairSync('ec', { namedCurve: 'P-256' })]];
  return { keys: made.map(([alg, pair]) => ({
    ...pair.privateKey.export({ format: 'jwk' }), alg, use: 'sig', kid: `${alg}-${turn}`,
  })) };
}

function client(id, grants) {
  return {
    client_id: id, client_secret: 'made up for tests, and for nothing else', redirect_uris: [], response_types: [],
    grant_types: grants, token_endpoint_auth_method: id === 'service' ? 'client_secret_basic' : 'client_secret_post',
  };
}

function made() {
  const provider = new Provider(issuer, {
    clients: [client('desk', ['password']), client('gauge', ['client_credentials']), client('service', [])],
    cookies: { keys: ['made up for tests'] },
    jwks: keys(),
    scopes: SCOPES.split(' '),
    ttl: { AccessToken: 300, ClientCredentials: 300, Grant: 600 },
    async findAccount(ctx, id) { return HOUSE[id] ? { accountId: id, async claims() { return { sub: id }; } } : undefined; },
    features: {
      devInteractions: { enabled: false },
      clientCredentials: { enabled: true },
      introspection: { enabled: true, async allowedPolicy(ctx, client) { return client.clientId === 'service'; } },
      revocation: { enabled: true, async allowedPolicy() { return true; } },
      resourceIndicators: {
        enabled: true,
        async useGrantedResource() { return true; },
        async getResourceServerInfo(ctx, id) {
          if (!RESOURCES[id]) throw new errors.InvalidTarget();
          return { scope: SCOPES, audience: id, accessTokenTTL: 300, ...RESOURCES[id] };
        },
      },
    },
    async extraTokenClaims(ctx, token) {
      if (!token.accountId) return { kind: 'machine' };
      const realm = HOUSE[token.accountId].filter((role) => role !== 'keeper');
      const own = HOUSE[token.accountId].filter((role) => role === 'keeper');
      return { realm_access: { roles: realm }, resource_access: { kilnhouse: { roles: own } } };
    },
  });
  provider.registerGrantType('password', async (ctx) => {
    const { username, password, resource } = ctx.oidc.params;
    if (!HOUSE[username] || password !== 'made up') throw new errors.InvalidGrant('no such member');
    const { Grant, AccessToken, ResourceServer } = provider;
    const grant = new Grant({ accountId: username, clientId: ctx.oidc.client.clientId });
    const token = new AccessToken({
      accountId: username, client: ctx.oidc.client, grantId: await grant.save(), gty: 'password',
    });
    if (!RESOURCES[resource]) throw new errors.InvalidTarget();
    token.resourceServer = new ResourceServer(resource, {
      scope: SCOPES, audience: resource, accessTokenTTL: 300, ...RESOURCES[resource],
    });
    ctx.oidc.entity('AccessToken', token);
    ctx.body = { access_token: await token.save(), expires_in: token.expiration, token_type: 'Bearer' };
  }, ['username', 'password', 'resource']);
  return provider.callback();
}

let answer = made();

const LIES = {
  html: (res) => { res.setHeader('content-type', 'text/html'); res.end('<h1>Moved</h1>'); },
  'no-keys': (res) => res.end(JSON.stringify({ issuer, jwks_uri: `${issuer}/jwks`, keys: [] })),
  'other-issuer': (res) => res.end(JSON.stringify({ issuer: 'http://127.0.0.1:1', jwks_uri: `${issuer}/jwks` })),
  error: (res) => { res.statusCode = 503; res.end('later'); },
  endless: (res) => { const more = setInterval(() => res.write('        '), 50); res.on('close', () => clearInterval(more)); },
  silent: () => {},
};

createServer((req, res) => {
  const published = req.url.startsWith('/.well-known') || req.url.startsWith('/jwks');
  if (mode !== 'well' && (published || mode === 'error' || mode === 'silent')) LIES[mode](res);
  else answer(req, res);
}).listen(port, '127.0.0.1', () => console.log('ready'));

createInterface({ input: process.stdin }).on('line', (line) => {
  const wanted = JSON.parse(line);
  if (wanted.keys) answer = made();
  if (wanted.mode) mode = wanted.mode;
  console.log('done');
}).on('close', () => process.exit(0));
