"""The harbour office's tables, as Django models. The tables are made by the other twin."""

from django.db import models


class Vessel(models.Model):
    name = models.TextField()
    call_sign = models.TextField()
    flag = models.TextField()
    length_m = models.FloatField()
    gross_tonnage = models.IntegerField()
    owner = models.TextField()

    class Meta:
        managed = False
        db_table = "vessel"


class Berth(models.Model):
    name = models.TextField()
    length_m = models.FloatField()
    depth_m = models.FloatField()

    class Meta:
        managed = False
        db_table = "berth"


class PortCall(models.Model):
    vessel = models.ForeignKey(Vessel, models.CASCADE, related_name="calls")
    berth = models.ForeignKey(Berth, models.SET_NULL, null=True, related_name="calls")
    eta = models.DateTimeField()
    etd = models.DateTimeField()
    status = models.TextField()
    draught_m = models.FloatField()
    agent = models.TextField()

    class Meta:
        managed = False
        db_table = "port_call"


class Tug(models.Model):
    name = models.TextField()
    bollard_pull_t = models.IntegerField()

    class Meta:
        managed = False
        db_table = "tug"


class TugJob(models.Model):
    port_call = models.ForeignKey(PortCall, models.CASCADE, related_name="tug_jobs")
    tug = models.ForeignKey(Tug, models.CASCADE, related_name="jobs")
    pilot_id = models.IntegerField()
    starts_at = models.DateTimeField()
    minutes = models.IntegerField()

    class Meta:
        managed = False
        db_table = "tug_job"
        ordering = ["id"]


class Inspection(models.Model):
    port_call = models.ForeignKey(PortCall, models.CASCADE, related_name="inspections")
    inspected_at = models.DateTimeField()
    inspector = models.TextField()
    verdict = models.TextField()
    report = models.TextField()

    class Meta:
        managed = False
        db_table = "inspection"
