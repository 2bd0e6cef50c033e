// A seed bank in PostgreSQL, its endpoints made by SAP's CAP from bank.cds: server.js PORT DATABASE
// DATABASE is the URL of an empty database. A process that dies is started anew, as a supervisor would.
'use strict';
const cluster = require('cluster');

const [, , port, database] = process.argv;
process.chdir(__dirname);
const at = new URL(database);
const credentials = {
  host: at.hostname, port: Number(at.port), user: at.username, password: 'none', database: at.pathname.slice(1),
};
process.env.CDS_CONFIG = JSON.stringify({requires: {db: {credentials}}});
process.env.PORT = port;

async function filled() {
  const cds = require('@sap/cds');
  await cds.plugins;
  await cds.deploy('bank.cds').to('db');
  const {Client} = require('pg');
  const client = new Client({connectionString: database});
  await client.connect();
  await client.query(`
    INSERT INTO bank_species (id, name, family, protected)
    SELECT n, 'Species ' || n, (ARRAY['Poaceae', 'Fabaceae', 'Rosaceae'])[n % 3 + 1], n % 4 = 0
    FROM generate_series(1, 9) n;
    INSERT INTO bank_accessions (id, number, seeds, collected, note, viability, species_id)
    SELECT n, 'ACC-' || lpad(n::text, 4, '0'), 100 * n, CASE WHEN n % 7 > 0 THEN date '2001-02-03' + n * 40 END,
           CASE WHEN n % 3 > 0 THEN 'dry' END, 50.5 + n, n % 9 + 1
    FROM generate_series(1, 30) n;
  `);
  await client.end();
}

async function serve() {
  const cds = require('@sap/cds');
  const {compile} = require('@cap-js/openapi');
  await cds.plugins;
  const model = await cds.load('bank.cds');
  const contract = compile(model, {service: 'BankService', 'openapi:url': '/bank'});
  cds.on('bootstrap', app => app.get('/openapi.json', (_, answer) => answer.json(contract)));
  await cds.server({port: Number(port), service: 'all', from: ['bank.cds']});
}

if (cluster.isPrimary) {
  filled().then(() => {
    cluster.on('exit', () => setTimeout(() => cluster.fork(), 200));
    cluster.fork();
    process.on('SIGTERM', () => {
      for (const worker of Object.values(cluster.workers)) worker.process.kill('SIGKILL');
      process.exit(0);
    });
  });
} else {
  serve().catch(error => {
    console.error(error);
    process.exit(1);
  });
}
