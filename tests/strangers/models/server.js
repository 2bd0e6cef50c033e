// A seed bank in PostgreSQL, its endpoints made by Remult: server.js PORT DATABASE
'use strict';
const express = require('express');
const {remultExpress} = require('remult/remult-express');
const {Entity, Fields, Validators, Relations, describeClass, describeEntity, dataProvider} = require('remult');
const {createPostgresConnection} = require('remult/postgres');
const [, , port, database] = process.argv;
class Species {}
describeClass(Species, Entity('species', {allowApiCrud: true}), {
  id: Fields.autoIncrement(), name: Fields.string({validate: [Validators.required, Validators.unique]}), family: Fields.string(), protected: Fields.boolean(),
});
class Accession {}
describeClass(Accession, Entity('accessions', {allowApiCrud: true}), {
  id: Fields.autoIncrement(), number: Fields.string({validate: [Validators.required, Validators.unique, Validators.maxLength(20)]}),
  seeds: Fields.integer({validate: Validators.min(0)}), viability: Fields.number({allowNull: true}), note: Fields.string({allowNull: true}),
  collected: Fields.dateOnly({allowNull: true}), kept: Fields.literal(() => ['cold', 'dry', 'cryo']), speciesId: Fields.integer(),
  createdAt: Fields.createdAt(),
});
class Test {}
describeClass(Test, Entity('tests', {allowApiCrud: true}), {
  id: Fields.uuid(), accessionId: Fields.integer(), started: Fields.date(), germinated: Fields.integer(), details: Fields.json({allowNull: true}),
});
async function main() {
  const app = express();
  const api = remultExpress({entities: [Species, Accession, Test], dataProvider: createPostgresConnection({connectionString: database}),
    async initApi(remult) {
      const s = remult.repo(Species), a = remult.repo(Accession), t = remult.repo(Test);
      if (await s.count()) return;
      for (let n = 0; n < 12; n++) await s.insert({name: `Species ${n}`, family: ['Poaceae', 'Fabaceae', 'Rosaceae'][n % 3], protected: n % 4 === 0});
      for (let n = 0; n < 40; n++) await a.insert({number: `ACC-${String(n).padStart(4, '0')}`, seeds: 100 * n, viability: n % 5 ? 50 + n : null, note: n % 3 ? 'dry ' + n % 2 : null, collected: n % 4 ? new Date(2024, 0, 1 + n) : null, kept: ['cold', 'dry', 'cryo'][n % 3], speciesId: n % 9 + 1});
      for (let n = 0; n < 25; n++) await t.insert({accessionId: n + 1, started: new Date(Date.UTC(2024, 1, n % 28 + 1, n % 24)), germinated: n % 100, details: {light: n % 2 === 0}});
    }});
  app.use(api);
  const doc = api.openApiDoc({title: 'Seed bank'});
  app.get('/openapi.json', (q, r) => r.json(doc));
  app.listen(Number(port), '127.0.0.1');
}
main();
