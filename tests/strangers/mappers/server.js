// A seed bank in PostgreSQL, its endpoints made by Platformatic: server.js PORT DATABASE
'use strict';
const fs = require('fs');
const fastify = require('fastify');
const mapper = require('@platformatic/sql-mapper');
const openapi = require('@platformatic/sql-openapi');
const [, , port, database] = process.argv;
async function main() {
  const app = fastify({logger: {level: 'error'}});
  await app.register(mapper, {connectionString: database, log: app.log, async onDatabaseLoad(db, sql) {
    if (!(await db.query(sql`SELECT 1 FROM information_schema.tables WHERE table_name = 'species'`)).length)
      await db.query(sql.file(__dirname + '/bank.sql'));
  }});
  await app.register(openapi, {});
  await app.listen({port: Number(port), host: '127.0.0.1'});
}
main();
