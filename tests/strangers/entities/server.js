// A stranger: controllers generated from entities that describe themselves by their columns. `node server.js PORT DATABASE`.
require("reflect-metadata");
const { Module, Controller, Injectable, ValidationPipe } = require("@nestjs/common");
const { NestFactory } = require("@nestjs/core");
const { ApiProperty, DocumentBuilder, SwaggerModule } = require("@nestjs/swagger");
const { TypeOrmModule, getRepositoryToken } = require("@nestjs/typeorm");
const { Crud } = require("@dataui/crud");
const { TypeOrmCrudService } = require("@dataui/crud-typeorm");
const { EntitySchema } = require("typeorm");
const V = require("class-validator");
const { Type } = require("class-transformer");

const [port, location] = process.argv.slice(2);

/** Give one property of a class its decorators. */
function property(owner, name, type, ...decorators) {
  Reflect.defineMetadata("design:type", type, owner.prototype, name);
  for (const each of decorators) each(owner.prototype, name);
}

class Species {}
class Sample {}
const always = [V.IsOptional({ groups: ["UPDATE"] })];
property(Species, "id", Number, ApiProperty({ type: "integer", readOnly: true, required: false }), V.IsOptional({ always: true }));
property(Species, "name", String, ApiProperty({ type: String, maxLength: 60 }), ...always, V.IsString({ always: true }), V.MaxLength(60, { always: true }));
property(Species, "family", String, ApiProperty({ type: String, nullable: true, required: false }), V.IsOptional({ always: true }), V.IsString({ always: true }));
property(Sample, "id", Number, ApiProperty({ type: "integer", readOnly: true, required: false }), V.IsOptional({ always: true }));
property(Sample, "label", String, ApiProperty({ type: String, maxLength: 40 }), ...always, V.IsString({ always: true }), V.MaxLength(40, { always: true }));
property(Sample, "speciesId", Number, ApiProperty({ type: "integer" }), ...always, V.IsInt({ always: true }));
property(Sample, "grams", Number, ApiProperty({ type: Number, minimum: 0 }), ...always, V.IsNumber({}, { always: true }), V.Min(0, { always: true }));
property(Sample, "viable", Boolean, ApiProperty({ type: Boolean, required: false }), V.IsOptional({ always: true }), V.IsBoolean({ always: true }));

const schemas = [
  new EntitySchema({
    name: "Species", tableName: "species", target: Species,
    columns: { id: { type: "integer", primary: true, generated: true }, name: { type: "varchar", length: 60, unique: true }, family: { type: "varchar", nullable: true } },
    relations: { samples: { type: "one-to-many", target: () => Sample, inverseSide: "species" } },
  }),
  new EntitySchema({
    name: "Sample", tableName: "samples", target: Sample,
    columns: { id: { type: "integer", primary: true, generated: true }, label: { type: "varchar", length: 40 }, speciesId: { type: "integer" }, grams: { type: "float" }, viable: { type: "boolean", default: true } },
    relations: { species: { type: "many-to-one", target: () => Species, inverseSide: "samples", joinColumn: { name: "speciesId" } } },
  }),
];

/** A service and a controller for one entity. */
function exposed(path, entity, join) {
  class Service extends TypeOrmCrudService {}
  Reflect.defineMetadata("design:paramtypes", [Object], Service);
  Reflect.defineMetadata("self:paramtypes", [{ index: 0, param: getRepositoryToken(entity) }], Service);
  Injectable()(Service);
  const Exposed = { [`${path}Controller`]: class { constructor(service) { this.service = service; } } }[`${path}Controller`];
  Reflect.defineMetadata("design:paramtypes", [Service], Exposed);
  Crud({ model: { type: entity }, query: { join, limit: 500, alwaysPaginate: false } })(Exposed);
  Controller(path)(Exposed);
  return [Service, Exposed];
}

const made = [exposed("species", Species, { samples: {} }), exposed("samples", Sample, { species: {} })];
class Application {}
Module({
  imports: [TypeOrmModule.forRoot({ type: "sqljs", location, autoSave: true, synchronize: true, entities: schemas }), TypeOrmModule.forFeature([Species, Sample])],
  providers: made.map((each) => each[0]), controllers: made.map((each) => each[1]),
})(Application);

(async () => {
  const application = await NestFactory.create(Application, { logger: process.env.LOUD ? undefined : false });
  SwaggerModule.setup("docs", application, SwaggerModule.createDocument(application, new DocumentBuilder().setTitle("Seed bank").setVersion("1").build()));
  await application.init();
  const { DataSource } = require("typeorm");
  const source = application.get(DataSource);
  const species = await source.getRepository(Species).save(["Papaver rhoeas", "Centaurea cyanus", "Agrostemma githago", "Linum usitatissimum", "Zea mays"].map((name, i) => ({ name, family: i % 2 ? "Asteraceae" : null })));
  await source.getRepository(Sample).save(Array.from({ length: 40 }, (_, i) => ({ label: `S-${100 + i}`, speciesId: species[i % 5].id, grams: (i * 7 % 23) + 0.5, viable: i % 3 > 0 })));
  await application.listen(port, "127.0.0.1");
})();
