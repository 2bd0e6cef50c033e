// A seed bank in memory, its endpoints made by LoopBack's CRUD controllers: server.js PORT FILE
// FILE is where the rows are kept, as JSON.
'use strict';
const {RestApplication} = require('@loopback/rest');
const {defineCrudRepositoryClass, defineCrudRestController} = require('@loopback/rest-crud');
const {defineModelClass, Entity, ModelDefinition, juggler} = require('@loopback/repository');

const [, , port, file] = process.argv;
const id = {type: 'number', id: true, generated: true};
const models = {
  Species: {
    id,
    name: {type: 'string', required: true, jsonSchema: {maxLength: 60}},
    family: {type: 'string', required: true, jsonSchema: {maxLength: 40}},
    protected: {type: 'boolean', default: false},
  },
  Accession: {
    id,
    number: {type: 'string', required: true, jsonSchema: {maxLength: 20, minLength: 3}},
    seeds: {type: 'number', required: true, jsonSchema: {type: 'integer', minimum: 0}},
    collected: {type: 'date'},
    note: {type: 'string'},
    speciesId: {type: 'number', required: true},
  },
};
const paths = {Species: '/species', Accession: '/accessions'};

function crud(model) {
  const definition = new ModelDefinition({name: model, properties: models[model], settings: {strict: true}});
  const made = defineModelClass(Entity, definition);
  const repository = defineCrudRepositoryClass(made);
  const controller = defineCrudRestController(made, {basePath: paths[model]});
  return {model, made, repository, controller};
}

async function main() {
  const app = new RestApplication({
    rest: {port: Number(port), host: '127.0.0.1', gracePeriodForClose: 500, openApiSpec: {servers: [{url: '/'}]}},
  });
  const source = new juggler.DataSource({name: 'db', connector: 'memory', localStorage: '', file});
  const repositories = {};
  for (const name of Object.keys(models)) {
    const each = crud(name);
    const repository = new each.repository(source);
    repositories[name] = repository;
    app.bind(`repositories.${name}`).to(repository);
    const {inject} = require('@loopback/core');
    inject(`repositories.${name}`)(each.controller, undefined, 0);
    app.controller(each.controller);
  }
  if ((await repositories.Species.count()).count === 0) {
    const families = ['Poaceae', 'Fabaceae', 'Rosaceae'];
    for (let n = 0; n < 9; n++) {
      await repositories.Species.create({name: `Species ${n}`, family: families[n % 3], protected: n % 4 === 0});
    }
    for (let n = 0; n < 30; n++) {
      const collected = n % 7 ? new Date(Date.UTC(2001 + (n % 20), n % 12, 3)).toISOString() : undefined;
      const row = {number: `ACC-${String(n).padStart(4, '0')}`, seeds: 100 * n, speciesId: (n % 9) + 1};
      await repositories.Accession.create({...row, ...(collected ? {collected} : {}), note: n % 3 ? 'dry' : ''});
    }
  }
  await app.start();
}

main().catch(error => {
  console.error(error);
  process.exit(1);
});
