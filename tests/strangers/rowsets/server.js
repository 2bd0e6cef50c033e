// A seed bank in SQLite behind soul, one path for all tables, described in OpenAPI 2.0: server.js PORT FILE.
// Its description is only shown on a page: it stands at /openapi.json here.
'use strict';
const fs = require('fs');
const http = require('http');
const path = require('path');
const {spawn} = require('child_process');
const Database = require('better-sqlite3');

const [, , port, file] = process.argv;
fs.rmSync(file, {force: true});
const bank = new Database(file);
bank.exec(`
  CREATE TABLE families (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, remark TEXT);
  CREATE TABLE lots (id INTEGER PRIMARY KEY, family_id INTEGER NOT NULL REFERENCES families(id), label TEXT NOT NULL,
    grams REAL NOT NULL CHECK (grams >= 0), collected_on TEXT, note TEXT);
  CREATE TABLE tags (code TEXT PRIMARY KEY, title TEXT NOT NULL);
`);
for (let n = 1; n <= 8; n++) bank.prepare('INSERT INTO families VALUES (?, ?, ?)').run(n, `Family ${n}`, n % 3 ? null : `remark ${n}`);
for (let n = 1; n <= 60; n++) bank.prepare('INSERT INTO lots VALUES (?, ?, ?, ?, ?, ?)').run(n, 1 + n % 8, `LOT-${n}`, (n * 7.3) % 50, `20${10 + n % 14}-03-11`, n % 5 ? null : `note ${n}`);
for (let n = 1; n <= 6; n++) bank.prepare('INSERT INTO tags VALUES (?, ?)').run(`T${n}`, `Tag ${n}`);
bank.close();

const inner = Number(port) < 60000 ? Number(port) + 1000 : Number(port) - 1000;
const home = path.dirname(require.resolve('soul-cli/package.json'));
const soul = spawn(process.execPath, [path.join(home, 'src', 'server.js'), '-d', file, '-p', String(inner)], {stdio: 'ignore'});
process.on('SIGTERM', () => { soul.kill(); process.exit(0); });
const description = {...JSON.parse(fs.readFileSync(path.join(home, 'src', 'swagger', 'swagger.json'))), host: `127.0.0.1:${port}`};
const proxy = require('http-proxy').createProxyServer({target: `http://127.0.0.1:${inner}`, agent: new http.Agent({keepAlive: true})});
proxy.on('error', (error, request, response) => { response.writeHead(503); response.end(); });
const outer = http.createServer((request, response) => {
  if (request.url !== '/openapi.json') return proxy.web(request, response);
  response.writeHead(200, {'Content-Type': 'application/json'});
  response.end(JSON.stringify(description));
});
const wait = () => http.get(`http://127.0.0.1:${inner}/api/health`, () => outer.listen(Number(port), '127.0.0.1')).on('error', () => setTimeout(wait, 200));
wait();
