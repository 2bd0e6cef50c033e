"""The tables of the seed bank."""

from __future__ import annotations

from django.db import models


class Species(models.Model):
    name = models.CharField(max_length=60, unique=True)
    family = models.CharField(max_length=40)
    protected = models.BooleanField(default=False)

    class AutoRestMeta:
        expose = True
        filterable_fields = ("id", "name", "family", "protected")
        orderable_fields = ("id", "name", "family")


class Accession(models.Model):
    number = models.CharField(max_length=20, unique=True)
    seeds = models.IntegerField()
    viability = models.FloatField(null=True, blank=True)
    note = models.TextField(null=True, blank=True)
    collected = models.DateField(null=True, blank=True)
    species = models.ForeignKey(Species, on_delete=models.PROTECT)

    class AutoRestMeta:
        expose = True
        filterable_fields = ("id", "number", "seeds", "viability", "note", "collected", "species")
        orderable_fields = ("id", "number", "seeds", "collected")
        embed_allowed = ("species",)


class Germination(models.Model):
    accession = models.ForeignKey(Accession, on_delete=models.CASCADE)
    started = models.DateField()
    germinated = models.SmallIntegerField()
    remark = models.CharField(max_length=30, blank=True, default="")

    class AutoRestMeta:
        expose = True
