// A seed bank in SQLite, as JSON:API by json-api-nestjs over TypeORM: server.js PORT FILE
"use strict";
require("reflect-metadata");
const { Module } = require("@nestjs/common");
const { NestFactory } = require("@nestjs/core");
const { DocumentBuilder, SwaggerModule } = require("@nestjs/swagger");
const { TypeOrmModule } = require("@nestjs/typeorm");
const T = require("typeorm");
const { JsonApiModule } = require("json-api-nestjs");
const [port, location] = process.argv.slice(2);
class Species {} class Lot {} class Tag {}
const prop = (c, n, type, d) => { Reflect.defineMetadata("design:type", type, c.prototype, n); d(c.prototype, n); };
prop(Species, "id", Number, T.PrimaryGeneratedColumn());
prop(Species, "name", String, T.Column({ type: "varchar", length: 60, unique: true }));
prop(Species, "family", String, T.Column({ type: "varchar", length: 40, nullable: true }));
prop(Species, "protected", Boolean, T.Column({ type: "boolean", default: false }));
prop(Species, "lots", Array, T.OneToMany(() => Lot, l => l.species));
prop(Lot, "id", Number, T.PrimaryGeneratedColumn());
prop(Lot, "code", String, T.Column({ type: "varchar", length: 20, unique: true }));
prop(Lot, "grams", Number, T.Column({ type: "float" }));
prop(Lot, "shelf", Number, T.Column({ type: "integer" }));
prop(Lot, "note", String, T.Column({ type: "text", nullable: true }));
prop(Lot, "species", Species, T.ManyToOne(() => Species, s => s.lots)); T.JoinColumn({ name: "species_id" })(Lot.prototype, "species");
prop(Lot, "tags", Array, T.ManyToMany(() => Tag, t => t.lots)); T.JoinTable({ name: "lot_tags" })(Lot.prototype, "tags");
prop(Tag, "id", Number, T.PrimaryGeneratedColumn());
prop(Tag, "label", String, T.Column({ type: "varchar", length: 30 }));
prop(Tag, "lots", Array, T.ManyToMany(() => Lot, l => l.tags));
T.Entity("species")(Species); T.Entity("lots")(Lot); T.Entity("tags")(Tag);
class App {}
Module({ imports: [
  TypeOrmModule.forRoot({ type: "sqljs", location, autoSave: true, synchronize: true, entities: [Species, Lot, Tag] }),
  JsonApiModule.forRoot({ entities: [Species, Lot, Tag], options: { requiredSelectField: false } }),
] })(App);
(async () => {
  const app = await NestFactory.create(App, { logger: ["error"] });
  const source = app.get(T.DataSource);
  const S = source.getRepository(Species), L = source.getRepository(Lot), G = source.getRepository(Tag);
  const tags = []; for (const label of ["rare", "old", "wet"]) tags.push(await G.save(G.create({ label })));
  const sp = []; for (let n = 0; n < 8; n++) sp.push(await S.save(S.create({ name: `Species ${n}`, family: n % 3 ? "Poaceae" : null, protected: n % 2 === 0 })));
  for (let n = 0; n < 30; n++) await L.save(L.create({ code: `LOT-${n}`, grams: n + 0.5, shelf: n % 7, note: n % 4 ? null : `note ${n}`, species: sp[n % 8], tags: n % 2 ? [tags[n % 3]] : [] }));
  SwaggerModule.setup("docs", app, () => SwaggerModule.createDocument(app, new DocumentBuilder().setTitle("Seed bank").build()));
  await app.listen(Number(port), "127.0.0.1");
})();
