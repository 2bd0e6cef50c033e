// A stranger: a decorator makes a controller of an entity; conditions are triples between bars. `node server.js PORT DATABASE`.
const { property, text, optional, served } = require("./decorated");
const { Module, ValidationPipe } = require("@nestjs/common");
const { NestFactory } = require("@nestjs/core");
const { ApiProperty, DocumentBuilder, SwaggerModule } = require("@nestjs/swagger");
const { TypeOrmModule, getDataSourceToken } = require("@nestjs/typeorm");
const { Crud } = require("@dataui/crud");
const { TypeOrmCrudService } = require("@dataui/crud-typeorm");
const { Entity, Column, PrimaryGeneratedColumn, ManyToOne, JoinColumn } = require("typeorm");
const V = require("class-validator");
const [port, location] = process.argv.slice(2);
class Crop {}
property(Crop, "id", Number, PrimaryGeneratedColumn(), ApiProperty({ type: "integer", readOnly: true, required: false }));
property(Crop, "name", String, ...text(60, { unique: true }), ApiProperty({ type: String, maxLength: 60 }));
property(Crop, "family", String, V.IsOptional(), Column({ type: "varchar", nullable: true }), V.IsString(), V.MaxLength(40), ApiProperty({ type: String, maxLength: 40, ...optional }));
property(Crop, "seedsPerGram", Number, V.IsOptional(), Column({ type: "integer", nullable: true }), V.IsInt(), ApiProperty({ type: "integer", ...optional }));
property(Crop, "wild", Boolean, V.IsOptional(), Column({ type: "boolean", default: false }), V.IsBoolean(), ApiProperty({ type: Boolean, required: false, default: false }));
Entity("crop")(Crop);
class Lot {}
property(Lot, "id", Number, PrimaryGeneratedColumn(), ApiProperty({ type: "integer", readOnly: true, required: false }));
property(Lot, "label", String, ...text(80), ApiProperty({ type: String, maxLength: 80 }));
property(Lot, "cropId", Number, Column({ type: "integer" }), V.IsInt(), ApiProperty({ type: "integer" }));
property(Lot, "grams", Number, V.IsOptional(), Column({ type: "float", nullable: true }), V.IsNumber(), ApiProperty({ type: Number, ...optional }));
property(Lot, "notes", String, V.IsOptional(), Column({ type: "varchar", nullable: true }), V.IsString(), ApiProperty({ type: String, ...optional }));
property(Lot, "crop", Crop, ManyToOne(() => Crop), JoinColumn({ name: "cropId" }));
Entity("lot")(Lot);
const controllers = [], providers = [];
for (const [path, entity] of Object.entries({ crops: Crop, lots: Lot })) {
  const { Service, Controller } = served(path, entity, TypeOrmCrudService);
  Crud({ model: { type: entity }, query: { limit: 20, maxLimit: 100, join: entity === Lot ? { crop: {} } : {} }, dto: { create: entity, update: entity, replace: entity } })(Controller);
  require("@nestjs/common").Controller(path)(Controller);
  controllers.push(Controller); providers.push(Service);
}
class Bank {}
const entities = [Crop, Lot];
Module({ imports: [TypeOrmModule.forRoot({ type: "sqljs", location, autoSave: true, entities, synchronize: true }), TypeOrmModule.forFeature(entities)], controllers, providers })(Bank);
(async () => {
  const app = await NestFactory.create(Bank, { logger: false });
  const doc = SwaggerModule.createDocument(app, new DocumentBuilder().setTitle("Seed bank").setVersion("1").build());
  SwaggerModule.setup("docs", app, doc);
  const ds = app.get(getDataSourceToken());
  const crops = ds.getRepository(Crop), lots = ds.getRepository(Lot);
  if (!(await crops.count())) {
    for (let i = 0; i < 14; i++) await crops.save(Object.assign(new Crop(), { name: `Crop ${String.fromCharCode(65 + i)}`, family: ["Poaceae", "Fabaceae", null][i % 3], seedsPerGram: 10 + (7 * i) % 50, wild: i % 2 == 0 }));
    for (let i = 0; i < 33; i++) await lots.save(Object.assign(new Lot(), { label: `Lot ${String(i).padStart(3, "0")}`, grams: [1.5, 20.25, 7, null][i % 4], notes: [null, "dry", "old stock"][i % 3], cropId: 1 + (i % 14) }));
  }
  app.useGlobalPipes(new ValidationPipe());
  await app.listen(+port, "127.0.0.1");
})();
