// What strangers of decorated classes share, since they are written without a compiler; it is copied beside each server.
require("reflect-metadata");
const { Injectable } = require("@nestjs/common");
const { getRepositoryToken } = require("@nestjs/typeorm");
const { Column } = require("typeorm");
const V = require("class-validator");

/** Give one property of a class its decorators. */
function property(owner, name, type, ...decorators) {
  Reflect.defineMetadata("design:type", type, owner.prototype, name);
  for (const each of decorators) each(owner.prototype, name);
}
const text = (length, more = {}) => [Column({ type: "varchar", length, ...more }), V.IsString(), V.MaxLength(length)];
const optional = { nullable: true, required: false };

/** A service of an entity, of a class for such, and the class of its controller without its routes. */
function served(path, entity, Base) {
  const Service = { [path]: class extends Base {} }[path];
  Reflect.defineMetadata("design:paramtypes", [Object], Service);
  Reflect.defineMetadata("self:paramtypes", [{ index: 0, param: getRepositoryToken(entity) }], Service);
  Injectable()(Service);
  const Controller = { [path]: class { constructor(service) { this.service = service; } } }[path];
  Reflect.defineMetadata("design:paramtypes", [Service], Controller);
  return { Service, Controller };
}

module.exports = { property, text, optional, served };
