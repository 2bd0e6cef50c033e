// A seed bank in SQLite, its lists paged by nestjs-paginate: server.js PORT FILE
"use strict";
require("reflect-metadata");
const { Module, Controller, Get, Post, Patch, Delete, Param, Body, Injectable, ValidationPipe, ParseIntPipe, NotFoundException, HttpCode } = require("@nestjs/common");
const { NestFactory } = require("@nestjs/core");
const { ApiProperty, ApiBody, ApiResponse, DocumentBuilder, SwaggerModule, PartialType, OmitType } = require("@nestjs/swagger");
const { DataSource, EntitySchema } = require("typeorm");
const P = require("nestjs-paginate");
const V = require("class-validator");
const [port, location] = process.argv.slice(2);
class Species {} class Accession {}
function property(owner, name, type, ...ds) { Reflect.defineMetadata("design:type", type, owner.prototype, name); for (const d of ds) d(owner.prototype, name); }
property(Species, "id", Number, ApiProperty({ type: "integer", readOnly: true }), V.IsOptional());
property(Species, "name", String, ApiProperty({ type: String, maxLength: 60 }), V.IsString(), V.MaxLength(60));
property(Species, "family", String, ApiProperty({ type: String, maxLength: 40 }), V.IsString(), V.MaxLength(40));
property(Species, "protected", Boolean, ApiProperty({ type: Boolean }), V.IsBoolean());
property(Accession, "id", Number, ApiProperty({ type: "integer", readOnly: true }), V.IsOptional());
property(Accession, "number", String, ApiProperty({ type: String, maxLength: 20 }), V.IsString(), V.MaxLength(20));
property(Accession, "seeds", Number, ApiProperty({ type: "integer", minimum: 0 }), V.IsInt(), V.Min(0));
property(Accession, "note", String, ApiProperty({ type: String, nullable: true, required: false }), V.IsOptional(), V.IsString());
property(Accession, "speciesId", Number, ApiProperty({ type: "integer" }), V.IsInt());
const schemas = [
  new EntitySchema({ name: "Species", tableName: "species", target: Species, columns: { id: { type: "integer", primary: true, generated: true }, name: { type: "varchar", length: 60, unique: true }, family: { type: "varchar", length: 40 }, protected: { type: "boolean" } } }),
  new EntitySchema({ name: "Accession", tableName: "accessions", target: Accession, columns: { id: { type: "integer", primary: true, generated: true }, number: { type: "varchar", length: 20, unique: true }, seeds: { type: "integer" }, note: { type: "text", nullable: true }, speciesId: { type: "integer" } } }),
];
const source = new DataSource({ type: "sqljs", location, autoSave: true, synchronize: true, entities: schemas });
function exposed(path, entity, fields) {
  const config = { sortableColumns: fields, nullSort: "last", defaultSortBy: [["id", "ASC"]], select: fields, maxLimit: 50, defaultLimit: 10, filterableColumns: Object.fromEntries(fields.map(f => [f, [P.FilterOperator.EQ, P.FilterOperator.GT, P.FilterOperator.GTE, P.FilterOperator.LT, P.FilterOperator.LTE, P.FilterOperator.IN, P.FilterOperator.NULL, P.FilterOperator.ILIKE, P.FilterSuffix.NOT]])) };
  const C = { [`${path}Controller`]: class {
    get repo() { return source.getRepository(entity); }
    list(query) { return P.paginate(query, this.repo, config); }
    async one(id) { const row = await this.repo.findOneBy({ id }); if (!row) throw new NotFoundException(); return row; }
    create(body) { return this.repo.save(this.repo.create(body)); }
    async update(id, body) { const row = await this.one(id); return this.repo.save({ ...row, ...body, id }); }
    async remove(id) { await this.one(id); await this.repo.delete(id); }
  } }[`${path}Controller`];
  class Create extends OmitType(entity, ["id"]) {} Object.defineProperty(Create, "name", { value: entity.name + "Create" });
  class Update extends PartialType(Create) {} Object.defineProperty(Update, "name", { value: entity.name + "Update" });
  const proto = C.prototype, d = n => Object.getOwnPropertyDescriptor(proto, n);
  const types = (n, ...t) => Reflect.defineMetadata("design:paramtypes", t, proto, n);
  types("list", Object); types("one", Number); types("create", Create); types("update", Number, Update); types("remove", Number);
  P.Paginate()(proto, "list", 0); Get()(proto, "list", d("list")); P.PaginatedSwaggerDocs(entity, config)(proto, "list", d("list"));
  Param("id", ParseIntPipe)(proto, "one", 0); Get(":id")(proto, "one", d("one")); ApiResponse({ status: 200, type: entity })(proto, "one", d("one")); ApiResponse({ status: 404 })(proto, "one", d("one"));
  Body()(proto, "create", 0); Post()(proto, "create", d("create")); ApiResponse({ status: 201, type: entity })(proto, "create", d("create"));
  Param("id", ParseIntPipe)(proto, "update", 0); Body()(proto, "update", 1); Patch(":id")(proto, "update", d("update")); ApiResponse({ status: 200, type: entity })(proto, "update", d("update")); ApiResponse({ status: 404 })(proto, "update", d("update"));
  Param("id", ParseIntPipe)(proto, "remove", 0); Delete(":id")(proto, "remove", d("remove")); HttpCode(204)(proto, "remove", d("remove")); ApiResponse({ status: 204 })(proto, "remove", d("remove")); ApiResponse({ status: 404 })(proto, "remove", d("remove"));
  Controller(path)(C);
  return C;
}
class App {}
Module({ controllers: [exposed("species", Species, ["id", "name", "family", "protected"]), exposed("accessions", Accession, ["id", "number", "seeds", "note", "speciesId"])] })(App);
(async () => {
  await source.initialize();
  const S = source.getRepository(Species), A = source.getRepository(Accession);
  for (let n = 0; n < 9; n++) await S.save(S.create({ name: `Species ${n}`, family: ["Poaceae", "Fabaceae", "Rosaceae"][n % 3], protected: n % 4 === 0 }));
  for (let n = 0; n < 30; n++) await A.save(A.create({ number: `ACC-${String(n).padStart(4, "0")}`, seeds: 100 * n, note: n % 3 ? "dry" : null, speciesId: (n % 9) + 1 }));
  const app = await NestFactory.create(App, { logger: false });
  app.useGlobalPipes(new ValidationPipe({ whitelist: true, transform: false }));
  SwaggerModule.setup("docs", app, SwaggerModule.createDocument(app, new DocumentBuilder().setTitle("Seed bank").build()));
  await app.listen(Number(port), "127.0.0.1");
})().catch(e => { console.error(e); process.exit(1); });
