// A seed bank in memory, with the endpoints that LoopBack 3 makes of models, described in OpenAPI 2.0:
// server.js PORT FILE. FILE is where the rows are kept, as JSON.
'use strict';
const fs = require('fs');
const loopback = require('loopback');

const [, , port, file] = process.argv;
fs.rmSync(file, {force: true});
const app = loopback();
const rows = loopback.createDataSource('rows', {connector: 'memory', file});

function model(name, properties, options) {
  const made = rows.createModel(name, properties, {strict: true, ...options});
  app.model(made, {dataSource: rows, public: true});
  return made;
}

const id = {type: Number, id: true, generated: true};
const Species = model('Species', {id, name: {type: String, required: true}, family: String, protected: {type: Boolean, default: false}}, {plural: 'species'});
const Vault = model('Vault', {code: {type: String, id: true, required: true}, name: {type: String, required: true}, temperature: Number});
const Lot = model('Lot', {id, label: {type: String, required: true}, quantity: Number, collected: Date, note: String, speciesId: Number, vaultCode: String});
Lot.belongsTo(Species, {as: 'species', foreignKey: 'speciesId'});
Lot.belongsTo(Vault, {as: 'vault', foreignKey: 'vaultCode'});
Species.hasMany(Lot, {as: 'lots', foreignKey: 'speciesId'});
Vault.hasMany(Lot, {as: 'lots', foreignKey: 'vaultCode'});
Species.validatesUniquenessOf('name');
app.use('/api', loopback.rest());
require('loopback-component-explorer')(app, {mountPath: '/explorer'});
app.use(loopback.urlNotFound());
app.use(require('strong-error-handler')({debug: false, log: false}));

(async () => {
  const families = ['Fabaceae', 'Poaceae', 'Rosaceae', 'Asteraceae', null];
  for (let n = 1; n <= 24; n++) await Species.create({name: `Species ${String.fromCharCode(64 + n)}${n % 5 ? '' : ' álba'}`, family: families[n % 5], protected: n % 3 === 0});
  for (let n = 1; n <= 6; n++) await Vault.create({code: `V${n}`, name: `Vault ${n}`, temperature: -10 - n * 1.5});
  for (let n = 1; n <= 57; n++) {
    await Lot.create({
      label: `LOT-${1000 + n}`,
      quantity: n % 7 ? (n * 13) % 200 : null,
      collected: n % 9 ? new Date(Date.UTC(2010 + (n % 12), n % 12, 1 + (n % 27))) : null,
      note: n % 4 ? null : `note ${n}`,
      speciesId: 1 + (n % 24),
      vaultCode: `V${1 + (n % 6)}`,
    });
  }
  app.listen(Number(port), '127.0.0.1');
})();
