// A seed bank in PostgreSQL, its endpoints made by Feathers services: server.js PORT DATABASE
// DATABASE is the URL of an empty database.
'use strict';
const {feathers} = require('@feathersjs/feathers');
const {koa, rest, bodyParser, errorHandler} = require('@feathersjs/koa');
const {KnexService} = require('@feathersjs/knex');
const {Type, getValidator, querySyntax} = require('@feathersjs/typebox');
const {Ajv, hooks} = require('@feathersjs/schema');
const formats = require('ajv-formats');
const swagger = require('feathers-swagger');
const knex = require('knex');

const [, , port, database] = process.argv;
const bodies = formats(new Ajv());
const queries = formats(new Ajv({coerceTypes: true}));
const orNull = type => Type.Union([type, Type.Null()]);
const id = Type.Number();
const models = {
  species: {
    id,
    name: Type.String({maxLength: 60}),
    family: Type.String({maxLength: 40}),
    protected: Type.Boolean(),
  },
  accessions: {
    id,
    number: Type.String({minLength: 3, maxLength: 20}),
    seeds: Type.Integer({minimum: 0}),
    viability: Type.Optional(orNull(Type.Number({minimum: 0, maximum: 100}))),
    note: Type.Optional(orNull(Type.String())),
    species_id: Type.Integer(),
  },
};
const titles = {species: 'Species', accessions: 'Accession'};

async function filled(db) {
  await db.schema.createTable('species', table => {
    table.increments('id');
    table.string('name', 60).notNullable().unique();
    table.string('family', 40).notNullable();
    table.boolean('protected').notNullable();
  });
  await db.schema.createTable('accessions', table => {
    table.increments('id');
    table.string('number', 20).notNullable().unique();
    table.integer('seeds').notNullable();
    table.float('viability');
    table.text('note');
    table.integer('species_id').notNullable().references('species.id');
  });
  const families = ['Poaceae', 'Fabaceae', 'Rosaceae'];
  for (let n = 0; n < 9; n++) {
    await db('species').insert({name: `Species ${n}`, family: families[n % 3], protected: n % 4 === 0});
  }
  for (let n = 0; n < 30; n++) {
    const row = {number: `ACC-${String(n).padStart(4, '0')}`, seeds: 100 * n, species_id: (n % 9) + 1};
    await db('accessions').insert({...row, viability: n % 5 ? 50 + n : null, note: n % 3 ? 'dry' : null});
  }
}

async function main() {
  const db = knex({client: 'pg', connection: database});
  await filled(db);
  const app = koa(feathers());
  app.use(errorHandler());
  app.use(bodyParser());
  app.configure(rest());
  app.configure(swagger({specs: {info: {title: 'Seed bank', version: '1.0.0'}}}));
  for (const [name, fields] of Object.entries(models)) {
    const title = titles[name];
    const {id: key, ...rest} = fields;
    const closed = {additionalProperties: false};
    const whole = Type.Object(fields, {$id: title, ...closed});
    const data = Type.Object(rest, {$id: `${title}Data`, ...closed});
    const patch = Type.Partial(data, {$id: `${title}Patch`});
    const query = querySyntax(Type.Object(fields));
    const schemas = {
      [`${name}Schema`]: whole,
      [`${name}DataSchema`]: data,
      [`${name}PatchSchema`]: patch,
      [`${name}QuerySchema`]: Type.Intersect([query], {$id: `${title}Query`}),
    };
    const service = new KnexService({Model: db, name, id: 'id', paginate: {default: 10, max: 50}});
    service.docs = swagger.createSwaggerServiceOptions({schemas, docs: {description: name}});
    app.use(name, service, {methods: ['find', 'get', 'create', 'update', 'patch', 'remove'], docs: service.docs});
    const sent = hooks.validateData(getValidator(data, bodies));
    app.service(name).hooks({
      before: {
        all: [hooks.validateQuery(getValidator(query, queries))],
        create: [sent],
        update: [sent],
        patch: [hooks.validateData(getValidator(patch, bodies))],
      },
    });
  }
  await app.listen(Number(port), '127.0.0.1');
}

main().catch(error => {
  console.error(error);
  process.exit(1);
});
