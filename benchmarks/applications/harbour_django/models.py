"""The harbour office's models on Django."""

from django.db import models


class Vessel(models.Model):
    name = models.CharField(max_length=50)
    flag = models.CharField(max_length=5)
    log = models.TextField()

    class Meta:
        db_table = "vessel"


class Tug(models.Model):
    name = models.CharField(max_length=50)

    class Meta:
        db_table = "tug"


class PortCall(models.Model):
    vessel = models.ForeignKey(Vessel, models.CASCADE, null=True, related_name="calls")
    status = models.CharField(max_length=20)
    agent = models.CharField(max_length=50)
    tugs = models.ManyToManyField(Tug, through="TugJob")

    class Meta:
        db_table = "port_call"


class TugJob(models.Model):
    port_call = models.ForeignKey(PortCall, models.CASCADE, related_name="tug_jobs")
    tug = models.ForeignKey(Tug, models.CASCADE)

    class Meta:
        db_table, ordering = "tug_job", ["id"]
