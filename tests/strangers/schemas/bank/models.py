"""The tables of the seed bank."""

from django.db import models


class Species(models.Model):
    name = models.CharField(max_length=60, unique=True)
    family = models.CharField(max_length=40, null=True, blank=True)
    protected = models.BooleanField(default=False)


class Lot(models.Model):
    code = models.CharField(max_length=20, unique=True)
    grams = models.DecimalField(max_digits=8, decimal_places=2)
    shelf = models.PositiveIntegerField()
    collected = models.DateField()
    note = models.TextField(blank=True, default="")
    species = models.ForeignKey(Species, on_delete=models.PROTECT, related_name="lots")


class Trial(models.Model):
    lot = models.ForeignKey(Lot, on_delete=models.CASCADE)
    sown = models.IntegerField()
    sprouted = models.IntegerField(null=True)
    kind = models.CharField(max_length=10, choices=[("paper", "Paper"), ("sand", "Sand")])
    at = models.DateTimeField(auto_now_add=True)
