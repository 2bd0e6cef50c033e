// A stranger: tables from a list of columns, in a database that is written to its file behind each change. Its answers
// come in an envelope that its description does not have. `node server.js PORT DATABASE`.
const http = require("http");
const { essr } = require("essr-crud-api");

const [port, database] = process.argv.slice(2);
const inner = Number(port) + 1;
const id = { name: "id", type: "number", pk: true };
const text = (name, more = {}) => ({ name, type: "string", ...more });
const schema = [
  { name: "species", columns: [id, text("name", { null: false }), text("family", { null: false })] },
  {
    name: "accessions",
    columns: [
      id, text("number", { null: false }), { name: "seeds", type: "number", null: false },
      { name: "collected", type: "date" }, text("note"), { name: "species_id", type: "number" },
    ],
  },
];

async function send(method, path, body) {
  const answer = await fetch(`http://127.0.0.1:${inner}${path}`, {
    method, headers: { "Content-Type": "application/json" }, body: body && JSON.stringify(body),
  });
  return answer.text();
}

/** The description as its page has it. */
async function description() {
  const page = await send("GET", "/api-docs/swagger-ui-init.js");
  const start = page.indexOf('"swaggerDoc":') + '"swaggerDoc":'.length;
  return JSON.stringify(JSON.parse(page.slice(start, page.indexOf('"customOptions"', start)).trim().replace(/,$/, "")));
}

function pass(request, answer) {
  const options = { port: inner, path: request.url, method: request.method, headers: request.headers };
  const further = http.request({ host: "127.0.0.1", ...options }, (told) => {
    answer.writeHead(told.statusCode, told.headers);
    told.pipe(answer);
  });
  further.on("error", () => answer.destroy());
  request.pipe(further);
}

essr({ schema, database, port: inner }).then(async () => {
  for (let n = 1; n < 10; n += 1) await send("POST", "/species", { name: `Species ${n}`, family: "Poaceae" });
  for (let n = 0; n < 30; n += 1) {
    const collected = `2020-01-${String(1 + (n % 28)).padStart(2, "0")}T08:00:00Z`;
    await send("POST", "/accessions", { number: `ACC-${n}`, seeds: 100 * n, collected, note: `n ${n}`, species_id: 1 + (n % 9) });
  }
  http.createServer(async (request, answer) => {
    if (request.url !== "/openapi.json") return pass(request, answer);
    answer.setHeader("Content-Type", "application/json");
    return answer.end(await description());
  }).listen(Number(port), "127.0.0.1");
});
