"""The same pages after the advice was taken. What they give is unchanged."""

from django.db.models import Count

from .models import Berth, Inspection, PortCall


def calls_due(first):
    due = PortCall.objects.filter(status="due").order_by("eta")
    return due.select_related("vessel").prefetch_related("tug_jobs__tug")[:first]


def berth_board():
    # An annotation keeps a berth without calls, with 0.
    return [
        (berth, berth.calls_count)
        for berth in Berth.objects.annotate(calls_count=Count("calls")).order_by("id")
    ]


def inspections():
    return Inspection.objects.defer("report").order_by("-inspected_at")[:50]
