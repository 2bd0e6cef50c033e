// A seed bank in SQLite, with the endpoints that Strapi makes of content types and its own description of them, open to
// the public: server.js PORT FILE
'use strict';
const fs = require('fs');
const path = require('path');

const [, , port, file] = process.argv;
const folder = path.join(__dirname, 'app');
fs.rmSync(folder, {recursive: true, force: true});
const write = (name, text) => {
  const to = path.join(folder, name);
  fs.mkdirSync(path.dirname(to), {recursive: true});
  fs.writeFileSync(to, text);
};
const config = {
  database: {connection: {client: 'sqlite', connection: {filename: file}, useNullAsDefault: true}},
  server: {host: '127.0.0.1', port: Number(port), app: {keys: ['a1b2c3', 'd4e5f6']}},
  admin: {serveAdminPanel: false, auth: {secret: 'x1'}, apiToken: {salt: 'x2'}, transfer: {token: {salt: 'x3'}}, secrets: {encryptionKey: 'x'.repeat(32)}},
  plugins: {documentation: {enabled: true, config: {openapi: '3.0.0', info: {version: '1.0.0', title: 'Seed bank', description: ''}, 'x-strapi-config': {plugins: [], path: '/documentation'}}}, 'users-permissions': {enabled: true, config: {jwtSecret: 'jj'}}},
  middlewares: ['logger', 'errors', 'poweredBy', 'security', 'cors', 'query', 'body', 'session', 'favicon', 'public'].map((name) => `strapi::${name}`),
  api: {rest: {defaultLimit: 25, maxLimit: 100, withCount: true}},
};
for (const [name, value] of Object.entries(config)) write(`config/${name}.js`, `module.exports = ${name === 'middlewares' ? '' : '() => ('}${JSON.stringify(value)}${name === 'middlewares' ? '' : ')'};`);
const types = {
  species: ['species-list', {name: {type: 'string', required: true, unique: true, maxLength: 80}, family: {type: 'enumeration', enum: ['Fabaceae', 'Poaceae', 'Rosaceae', 'Asteraceae']}, protected: {type: 'boolean', default: false}, lots: {type: 'relation', relation: 'oneToMany', target: 'api::lot.lot', mappedBy: 'species'}}],
  vault: ['vaults', {code: {type: 'string', required: true, unique: true}, name: {type: 'string', required: true}, temperature: {type: 'decimal', min: -80, max: 30}}],
  lot: ['lots', {label: {type: 'string', required: true, minLength: 3}, quantity: {type: 'integer', min: 0}, collected: {type: 'date'}, stored_at: {type: 'datetime'}, note: {type: 'text'}, species: {type: 'relation', relation: 'manyToOne', target: 'api::species.species', inversedBy: 'lots'}, vault: {type: 'relation', relation: 'manyToOne', target: 'api::vault.vault'}}],
};
for (const [name, [plural, attributes]] of Object.entries(types)) {
  const schema = {kind: 'collectionType', collectionName: `${name}_rows`, info: {singularName: name, pluralName: plural, displayName: name}, options: {draftAndPublish: false}, pluginOptions: {}, attributes};
  write(`src/api/${name}/content-types/${name}/schema.json`, JSON.stringify(schema));
  for (const [kind, factory] of [['controllers', 'createCoreController'], ['routes', 'createCoreRouter'], ['services', 'createCoreService']]) {
    write(`src/api/${name}/${kind}/${name}.js`, `const {factories} = require('@strapi/strapi');\nmodule.exports = factories.${factory}('api::${name}.${name}');\n`);
  }
}
write('src/index.js', 'module.exports = {register() {}, bootstrap() {}};');
write('public/uploads/.gitkeep', '');
write('package.json', JSON.stringify({name: 'app', private: true, version: '1.0.0', dependencies: require('./package.json').dependencies}));

async function seeded(strapi) {
  const role = await strapi.db.query('plugin::users-permissions.role').findOne({where: {type: 'public'}});
  for (const name of Object.keys(types)) {
    for (const act of ['find', 'findOne', 'create', 'update', 'delete']) {
      await strapi.db.query('plugin::users-permissions.permission').create({data: {action: `api::${name}.${name}.${act}`, role: role.id}});
    }
  }
  const make = (name, data) => strapi.documents(`api::${name}.${name}`).create({data});
  const families = ['Fabaceae', 'Poaceae', 'Rosaceae', 'Asteraceae', null];
  const species = [];
  const vaults = [];
  for (let n = 1; n <= 24; n++) species.push(await make('species', {name: `Species ${String.fromCharCode(64 + n)}${n % 5 ? '' : ' álba'}`, family: families[n % 5], protected: n % 3 === 0}));
  for (let n = 1; n <= 6; n++) vaults.push(await make('vault', {code: `V${n}`, name: `Vault ${n}`, temperature: -10 - n * 1.5}));
  for (let n = 1; n <= 57; n++) {
    await make('lot', {
      label: `LOT-${1000 + n}`,
      quantity: n % 7 ? (n * 13) % 200 : null,
      collected: n % 9 ? new Date(Date.UTC(2010 + (n % 12), n % 12, 1 + (n % 27))).toISOString().slice(0, 10) : null,
      stored_at: n % 6 ? new Date(Date.UTC(2020, n % 12, 1 + (n % 27), n % 24, 5, 6)).toISOString() : null,
      note: n % 4 ? null : `note ${n}`,
      species: species[n % 24].documentId,
      vault: vaults[n % 6].documentId,
    });
  }
}

(async () => {
  process.env.STRAPI_TELEMETRY_DISABLED = 'true';
  const {createStrapi} = require('@strapi/strapi');
  const strapi = createStrapi({appDir: folder, distDir: folder});
  await strapi.load();
  await seeded(strapi);
  const described = path.join(folder, 'src/extensions/documentation/documentation/1.0.0/full_documentation.json');
  fs.copyFileSync(described, path.join(folder, 'public/openapi.json'));
  await strapi.start();
})();
