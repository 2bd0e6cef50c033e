// A stranger: one decorator makes a controller of an entity, with lists that take JSON. `node server.js PORT DATABASE`.
const { property, text, optional, served } = require("./decorated");
const { Module, ValidationPipe } = require("@nestjs/common");
const { NestFactory } = require("@nestjs/core");
const { ApiProperty, DocumentBuilder, SwaggerModule } = require("@nestjs/swagger");
const { TypeOrmModule, getDataSourceToken } = require("@nestjs/typeorm");
const { Crud, CrudService } = require("@ackplus/nest-crud");
const { Entity, Column, PrimaryGeneratedColumn, DeleteDateColumn, ManyToOne, JoinColumn } = require("typeorm");
const V = require("class-validator");

const [port, location] = process.argv.slice(2);

class Species {}
property(Species, "id", Number, PrimaryGeneratedColumn(), ApiProperty({ type: "integer", readOnly: true, required: false }));
property(Species, "name", String, ...text(60, { unique: true }), ApiProperty({ type: String, maxLength: 60 }));
property(Species, "family", String, V.IsOptional(), Column({ type: "varchar", nullable: true }), V.IsString(), ApiProperty({ type: String, maxLength: 40, ...optional }));
Entity("species")(Species);

class Lot {}
property(Lot, "id", Number, PrimaryGeneratedColumn(), ApiProperty({ type: "integer", readOnly: true, required: false }));
property(Lot, "label", String, ...text(40), ApiProperty({ type: String, maxLength: 40 }));
property(Lot, "speciesId", Number, Column({ type: "integer" }), V.IsInt(), ApiProperty({ type: "integer" }));
property(Lot, "grams", Number, V.IsOptional(), Column({ type: "float", nullable: true }), V.IsNumber(), V.Min(0), ApiProperty({ type: Number, minimum: 0, ...optional }));
property(Lot, "collected", String, V.IsOptional(), Column({ type: "date", nullable: true }), V.IsDateString(), ApiProperty({ type: String, format: "date", ...optional }));
property(Lot, "species", Species, ManyToOne(() => Species), JoinColumn({ name: "speciesId" }));
Entity("lot")(Lot);

class Vault {}
property(Vault, "id", String, PrimaryGeneratedColumn("uuid"), ApiProperty({ type: String, format: "uuid", readOnly: true, required: false }));
property(Vault, "place", String, ...text(40), ApiProperty({ type: String, maxLength: 40 }));
property(Vault, "deletedAt", Date, DeleteDateColumn());
Entity("vault")(Vault);

const on = { enabled: true };
const routes = { findMany: on, counts: on, findOne: on, create: on, createMany: on, update: on, updateMany: on, delete: on };
const controllers = [];
const providers = [];
for (const [path, entity] of Object.entries({ species: Species, lots: Lot, vaults: Vault })) {
  const { Service, Controller } = served(path, entity, CrudService);
  Crud({ path, entity, dto: { create: entity, update: entity }, softDelete: entity === Vault, routes })(Controller);
  controllers.push(Controller);
  providers.push(Service);
}

class Bank {}
const entities = [Species, Lot, Vault];
const database = { type: "sqljs", location, autoSave: true, entities, synchronize: true };
Module({ imports: [TypeOrmModule.forRoot(database), TypeOrmModule.forFeature(entities)], controllers, providers })(Bank);

(async () => {
  const app = await NestFactory.create(Bank, { logger: false });
  app.useGlobalPipes(new ValidationPipe({ whitelist: true, transform: true }));
  SwaggerModule.setup("docs", app, SwaggerModule.createDocument(app, new DocumentBuilder().setTitle("Seed bank").build()));
  const source = app.get(getDataSourceToken());
  for (let n = 1; n < 10; n++) await source.getRepository(Species).save({ name: `Species ${n}`, family: n % 3 ? "Poaceae" : null });
  for (let n = 1; n < 48; n++) await source.getRepository(Lot).save({ label: `Lot ${n}`, speciesId: 1 + (n % 9), grams: n * 3.5, collected: `2021-0${1 + (n % 9)}-11` });
  for (let n = 0; n < 4; n++) await source.getRepository(Vault).save({ place: `Hall ${n}` });
  await app.listen(Number(port), "127.0.0.1");
})();
