// A stranger: the rows of a file of JSON, with a description that tells what its documentation tells.
// server.js PORT FILE
const fs = require("fs");
const jsonServer = require("json-server");

const [port, file] = process.argv.slice(2);
const FIELDS = {
  species: { name: { type: "string" }, hardy: { type: "boolean" }, described_in: { type: ["integer", "null"] } },
  lots: {
    code: { type: "string" },
    speciesId: { type: "integer" },
    collected_on: { type: ["string", "null"], format: "date" },
    grams: { type: "number" },
  },
};
const row = (n) => ({ id: n, name: `Genus ${n}`, hardy: n % 3 === 0, described_in: n % 4 ? 1750 + n : null });
const lot = (n) => ({
  id: n,
  code: `SB-${1000 + n}`,
  speciesId: 1 + (n % 12),
  collected_on: n % 5 ? `2015-03-${String(1 + (n % 28)).padStart(2, "0")}` : null,
  grams: n * 1.5,
});
const numbers = (count) => [...Array(count).keys()].map((n) => n + 1);
fs.writeFileSync(file, JSON.stringify({ species: numbers(12).map(row), lots: numbers(45).map(lot) }));

const json = (schema, description = "done") => ({ description, content: { "application/json": { schema } } });
const query = (name, schema, description) => ({ name, in: "query", schema, description });
const contract = { openapi: "3.1.0", info: { title: "Seed bank", version: "1" }, paths: {}, components: { schemas: {} } };
for (const [table, fields] of Object.entries(FIELDS)) {
  contract.components.schemas[table] = { type: "object", required: ["id"], properties: { id: { type: "integer" }, ...fields } };
  contract.components.schemas[`New_${table}`] = { type: "object", properties: fields };
  const shown = { $ref: `#/components/schemas/${table}` };
  const requestBody = { required: true, ...json({ $ref: `#/components/schemas/New_${table}` }) };
  const parameters = [
    query("_start", { type: "integer", minimum: 0 }, "Where to begin, beside _limit."),
    query("_limit", { type: "integer", minimum: 1 }, "Rows at the most."),
    query("_sort", { type: "string" }, "The field to sort by; several are separated by commas."),
    query("_order", { type: "string", enum: ["asc", "desc"] }, "The direction."),
    query("q", { type: "string" }, "Full-text search."),
  ];
  for (const name of Object.keys(fields)) {
    parameters.push(query(name, { type: "string" }, `Rows with this ${name}.`));
    for (const operator of ["gte", "lte", "ne"]) parameters.push(query(`${name}_${operator}`, { type: "string" }, ""));
  }
  const refused = { 404: { description: "not found" } };
  const total = { "X-Total-Count": { schema: { type: "integer" }, description: "All rows, where _limit is asked for." } };
  contract.paths[`/${table}`] = {
    get: { parameters, responses: { 200: { ...json({ type: "array", items: shown }), headers: total } } },
    post: { requestBody, responses: { 201: json(shown) } },
  };
  contract.paths[`/${table}/{id}`] = {
    parameters: [{ name: "id", in: "path", required: true, schema: { type: "integer" } }],
    get: { responses: { 200: json(shown), ...refused } },
    put: { requestBody, responses: { 200: json(shown), ...refused } },
    patch: { requestBody, responses: { 200: json(shown), ...refused } },
    delete: { description: "Rows that refer to it go too.", responses: { 200: { description: "gone" }, ...refused } },
  };
}

const server = jsonServer.create();
server.use(jsonServer.defaults({ logger: false }));
server.get("/openapi.json", (_, answer) => answer.json(contract));
server.use(jsonServer.router(file));
server.listen(Number(port), "127.0.0.1");
