// A stranger: services of tables between hooks, told by their schemas. `node server.js PORT DATABASE`.
const { feathers } = require("@feathersjs/feathers");
const { koa, rest, bodyParser, errorHandler, parseAuthentication } = require("@feathersjs/koa");
const { KnexService } = require("@feathersjs/knex");
const { Type, getValidator, querySyntax } = require("@feathersjs/typebox");
const { Ajv, hooks } = require("@feathersjs/schema");
const swagger = require("feathers-swagger");
const { createSwaggerServiceOptions } = swagger;
const [port, filename] = process.argv.slice(2);
const Model = require("knex")({ client: "better-sqlite3", connection: { filename }, useNullAsDefault: true });
const data = new Ajv({}), query = new Ajv({ coerceTypes: true });
const app = koa(feathers());
app.use(errorHandler()); app.use(bodyParser());
app.configure(rest());
app.configure(swagger({ specs: { info: { title: "Seed bank", description: "A seed bank", version: "1.0.0" } }, openApiVersion: 3, docsJsonPath: "/openapi.json" }));
function table(name, fields, required) {
  const one = name.replace(/s$/, "");
  const schema = Type.Object({ id: Type.Number(), ...fields }, { $id: one, additionalProperties: false });
  const body = Object.fromEntries(Object.entries(fields).map(([k, v]) => [k, required.includes(k) ? v : Type.Optional(v)]));
  const dataSchema = Type.Object(body, { $id: one + "Data", additionalProperties: false });
  const patchSchema = Type.Partial(dataSchema, { $id: one + "Patch", additionalProperties: false });
  const properties = Type.Object({ id: Type.Number(), ...fields });
  const querySchema = Type.Intersect([querySyntax(properties), Type.Object({}, { additionalProperties: false })], { $id: one + "Query" });
  const service = new KnexService({ Model, name, paginate: { default: 10, max: 50 } });
  app.use(name, service, { methods: ["find", "get", "create", "update", "patch", "remove"],
    docs: createSwaggerServiceOptions({ schemas: { [one + "Schema"]: schema, [one + "DataSchema"]: dataSchema, [one + "PatchSchema"]: patchSchema, [one + "QuerySchema"]: querySchema }, docs: { description: `The ${name}` } }) });
  const valid = getValidator(dataSchema, data);
  app.service(name).hooks({ before: {
    find: [hooks.validateQuery(getValidator(querySchema, query))],
    create: [hooks.validateData(valid)],
    update: [hooks.validateData(valid)],
    patch: [hooks.validateData(getValidator(patchSchema, data))] } });
}
const crop = { name: Type.String({ minLength: 1, maxLength: 60 }), family: Type.Union([Type.String({ maxLength: 40 }), Type.Null()]), seedsPerGram: Type.Union([Type.Integer({ minimum: 0 }), Type.Null()]) };
const lot = { label: Type.String({ minLength: 1, maxLength: 80 }), grams: Type.Union([Type.Number(), Type.Null()]), notes: Type.Union([Type.String(), Type.Null()]), cropId: Type.Integer() };
table("crops", crop, ["name"]);
table("lots", lot, ["label", "cropId"]);

(async () => {
  await Model.raw("pragma foreign_keys = on");
  await Model.schema.createTable("crops", (t) => { t.increments("id"); t.string("name", 60).notNullable().unique(); t.string("family", 40); t.integer("seedsPerGram"); });
  await Model.schema.createTable("lots", (t) => { t.increments("id"); t.string("label", 80).notNullable(); t.float("grams"); t.text("notes"); t.integer("cropId").notNullable().references("crops.id"); });
  for (let i = 0; i < 14; i++) await Model("crops").insert({ name: `Crop ${String.fromCharCode(65 + i)}`, family: ["Poaceae", "Fabaceae", null][i % 3], seedsPerGram: 10 + ((7 * i) % 50) });
  for (let i = 0; i < 33; i++) await Model("lots").insert({ label: `Lot ${String(i).padStart(3, "0")}`, grams: [1.5, 20.25, 7, null][i % 4], notes: [null, "dry", "old stock"][i % 3], cropId: 1 + (i % 14) });
  await app.listen(+port, "127.0.0.1");
})();
