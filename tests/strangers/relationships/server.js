// A seed bank in PostgreSQL, its JSON:API made by ZenStack: server.js PORT DATABASE
import './poly.cjs';
import express from 'express';
import pg from 'pg';
import {ZenStackClient} from '@zenstackhq/orm';
import {PostgresDialect} from '@zenstackhq/orm/dialects/postgres';
import {RestApiHandler, RPCApiHandler} from '@zenstackhq/server/api';
import {ZenStackMiddleware} from '@zenstackhq/server/express';
import {schema} from './schema.mjs';
const [, , port, database] = process.argv;
const db = new ZenStackClient(schema, {dialect: new PostgresDialect({pool: new pg.Pool({connectionString: database})})});
await db.$pushSchema?.();
if (!(await db.species.count())) {
  for (let n = 0; n < 12; n++) await db.species.create({data: {name: `Species ${n}`, family: ['Poaceae', 'Fabaceae', 'Rosaceae'][n % 3], protected: n % 4 === 0}});
  for (let n = 0; n < 40; n++) await db.accession.create({data: {number: `ACC-${String(n).padStart(4, '0')}`, seeds: 100 * n, viability: n % 5 ? 50 + n : null, note: n % 3 ? 'dry ' + n % 2 : null, kept: ['cold', 'dry', 'cryo'][n % 3], collected: n % 4 ? new Date(Date.UTC(2024, 0, 1 + n)) : null, price: n * 1.25, speciesId: n % 9 + 1}});
  for (let n = 0; n < 25; n++) await db.germinationTest.create({data: {accessionId: n + 1, started: new Date(Date.UTC(2024, 1, n % 28 + 1, n % 24)), germinated: n % 100, details: {light: n % 2 === 0}}});
}
const app = express();
app.use(express.json({type: ['application/json', 'application/vnd.api+json']}));
const rest = new RestApiHandler({schema, endpoint: `http://127.0.0.1:${port}/api`, pageSize: 20});
const rpc = new RPCApiHandler({schema});
const specs = {rest: await rest.generateSpec({title: 'Seed bank', version: '1'}), rpc: await rpc.generateSpec({title: 'Seed bank', version: '1'})};
app.get('/openapi.json', (q, r) => r.json(specs.rest));
app.get('/rpc.json', (q, r) => r.json(specs.rpc));
app.use('/api', ZenStackMiddleware({apiHandler: rest, getClient: () => db}));
app.use('/rpc', ZenStackMiddleware({apiHandler: rpc, getClient: () => db}));
app.listen(Number(port), '127.0.0.1');
