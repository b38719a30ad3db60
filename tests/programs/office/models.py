"""The models of `with_django.py`, the same as those of `with_sqlalchemy.py`."""

from django.db import models


class Vessel(models.Model):
    name = models.TextField()
    flag = models.TextField()
    log = models.TextField()

    class Meta:
        db_table = "vessel"


class Tug(models.Model):
    name = models.TextField()

    class Meta:
        db_table = "tug"
        ordering = ["id"]


class PortCall(models.Model):
    vessel = models.ForeignKey(Vessel, models.SET_NULL, null=True, related_name="calls")
    state = models.TextField(db_column="status")
    agent = models.TextField()
    tugs = models.ManyToManyField(Tug, through="TugJob")

    class Meta:
        db_table = "port_call"


class TugJob(models.Model):
    port_call = models.ForeignKey(PortCall, models.CASCADE, related_name="tug_jobs")
    tug = models.ForeignKey(Tug, models.CASCADE)

    class Meta:
        db_table = "tug_job"
        ordering = ["id"]
