// A seed bank in memory, with the endpoints that Sails makes of models, those that write by GET among them:
// server.js PORT FILE. FILE is where the rows are shown, as JSON.
'use strict';
const fs = require('fs');
const path = require('path');

const [, , port, file] = process.argv;
const text = (more) => ({type: 'string', ...more});
const models = {
  Species: {name: text({required: true, unique: true, maxLength: 80}), family: text({allowNull: true}), protected: {type: 'boolean', defaultsTo: false}, lots: {collection: 'lot', via: 'species'}},
  Vault: {name: text({required: true}), temperature: {type: 'number', allowNull: true}, lots: {collection: 'lot', via: 'vault'}},
  Lot: {label: text({required: true}), quantity: {type: 'number', isInteger: true, min: 0, allowNull: true}, collected: text({columnType: 'date', allowNull: true}), note: text({allowNull: true, maxLength: 200}), species: {model: 'species'}, vault: {model: 'vault'}, tags: {collection: 'tag', via: 'lots'}},
  Tag: {word: text({required: true, unique: true}), lots: {collection: 'lot', via: 'tags'}},
};
const folder = path.join(__dirname, 'app');
fs.mkdirSync(path.join(folder, 'api', 'models'), {recursive: true});
for (const [name, attributes] of Object.entries(models)) {
  fs.writeFileSync(path.join(folder, 'api', 'models', `${name}.js`), `module.exports = ${JSON.stringify({attributes})};`);
}
const described = path.join(folder, 'swagger.json');
const sails = require('sails');

async function seeded() {
  const {species: Species, vault: Vault, tag: Tag, lot: Lot} = sails.models;
  const families = ['Fabaceae', 'Poaceae', 'Rosaceae', 'Asteraceae', null];
  for (let n = 1; n <= 24; n++) await Species.create({name: `Species ${String.fromCharCode(64 + n)}${n % 5 ? '' : ' álba'}`, family: families[n % 5], protected: n % 3 === 0});
  for (let n = 1; n <= 6; n++) await Vault.create({name: `Vault ${n}`, temperature: -10 - n * 1.5});
  for (let n = 1; n <= 5; n++) await Tag.create({word: `tag${n}`});
  for (let n = 1; n <= 57; n++) {
    const lot = await Lot.create({
      label: `LOT-${1000 + n}`,
      quantity: n % 7 ? (n * 13) % 200 : null,
      collected: n % 9 ? new Date(Date.UTC(2010 + (n % 12), n % 12, 1 + (n % 27))).toISOString().slice(0, 10) : null,
      note: n % 4 ? null : `note ${n}`,
      species: 1 + (n % 24),
      vault: 1 + (n % 6),
    }).fetch();
    if (n % 3 === 0) await Lot.addToCollection(lot.id, 'tags', [1 + (n % 5)]);
  }
}

let shown = '';
async function show() {
  const {species, vault, tag, lot} = sails.models;
  const rows = {Species: await species.find(), Vault: await vault.find(), Tag: await tag.find().populate('lots'), Lot: await lot.find()};
  const keyed = Object.fromEntries(Object.entries(rows).map(([name, list]) => [name, Object.fromEntries(list.map((row) => [row.id, JSON.stringify(row)]))]));
  const now = JSON.stringify({models: keyed});
  if (now !== shown) fs.writeFileSync(file, (shown = now));
}

sails.lift({
  appPath: folder, port: Number(port), explicitHost: '127.0.0.1', environment: 'development', log: {level: 'silent'},
  globals: {models: false, sails: true, _: false, async: false},
  hooks: {grunt: false, session: false, i18n: false, csrf: false, views: false, pubsub: false, sockets: false, orm: require('sails-hook-orm'), swaggergenerator: require('sails-hook-swagger-generator')},
  blueprints: {actions: false, rest: true, shortcuts: true},
  models: {
    migrate: 'drop', schema: true, dataEncryptionKeys: {default: 'HMAdVS6gDVRdFgSdmKsIhPRcYVSYZOuXEBKBRTrTMqY='},
    attributes: {createdAt: {type: 'number', autoCreatedAt: true}, updatedAt: {type: 'number', autoUpdatedAt: true}, id: {type: 'number', autoIncrement: true}},
  },
  datastores: {default: {adapter: require('sails-disk'), inMemoryOnly: true}},
  swaggergenerator: {disabled: false, swaggerJsonPath: described, swagger: {openapi: '3.0.0', info: {title: 'Seed bank', version: '1.0.0'}, servers: [{url: `http://127.0.0.1:${port}/`}]}, defaults: {responses: {}}},
  routes: {'GET /openapi.json': {skipAssets: false, swagger: {exclude: true}, fn: (request, response) => response.json(JSON.parse(fs.readFileSync(described, 'utf8')))}},
  bootstrap: seeded,
}, (error) => {
  if (error) process.exit(1);
  (async function again() { await show(); setTimeout(again, 200); })();
});
