"""The original pages. Each wastes queries in its own way."""

from .models import Berth, Inspection, PortCall


def calls_due(first):
    # The template goes on to call.vessel, call.tug_jobs.all and job.tug: one query each, row by
    # row.
    return PortCall.objects.filter(status="due").order_by("eta")[:first]


def berth_board():
    return [(berth, berth.calls.count()) for berth in Berth.objects.order_by("id")]


def inspections():
    # The list shows no report, but each one comes along.
    return Inspection.objects.order_by("-inspected_at")[:50]
