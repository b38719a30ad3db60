"""The models of `shapes_django.py`."""

from __future__ import annotations

from typing import Any

from django.db import models


class Berth(models.Model):
    """A berth, which may have parts."""

    name = models.CharField(max_length=40)
    whole = models.ForeignKey("self", models.CASCADE, null=True, related_name="parts")

    class Meta:
        ordering = ["id"]


class Pilot(models.Model):
    """A pilot, with a long text."""

    name = models.CharField(max_length=40)
    notes = models.TextField()


class Craft(models.Model):
    """Anything that floats."""

    kind = models.CharField(max_length=10)
    name = models.CharField(max_length=40)
    log = models.TextField()
    berth = models.ForeignKey(Berth, models.CASCADE, related_name="crafts")


class Tug(Craft):
    """In a table of its own, next to Craft's."""

    pull = models.IntegerField()


class Barge(Craft):
    """The same."""

    tons = models.IntegerField()


class Paper(models.Model):
    """A certificate of a craft."""

    craft = models.ForeignKey(Craft, models.CASCADE, related_name="papers")
    title = models.CharField(max_length=40)

    class Meta:
        ordering = ["id"]


class OpenVisits(models.Manager[Any]):
    """Visits that are not over."""

    def get_queryset(self) -> models.QuerySet[Any]:
        """Without those of the last day."""
        return super().get_queryset().filter(day__lt=4)


class Visit(models.Model):
    """A visit, with two pilots: two relations to one table."""

    craft = models.ForeignKey(Craft, models.CASCADE, related_name="visits")
    inward = models.ForeignKey(Pilot, models.CASCADE, related_name="brought_in")
    outward = models.ForeignKey(Pilot, models.CASCADE, related_name="taken_out")
    day = models.IntegerField()
    helpers = models.ManyToManyField(Pilot, related_name="helped")
    objects = models.Manager()
    open = OpenVisits()

    class Meta:
        ordering = ["id"]


class Line(models.Model):
    """A line of a visit's account."""

    visit = models.ForeignKey(Visit, models.CASCADE, related_name="lines")
    number = models.IntegerField()
    text = models.CharField(max_length=40)

    class Meta:
        ordering = ["id"]
