"""The pages and their addresses."""

import os

from django.shortcuts import render
from django.urls import path

from . import grown, tuned

pages = {"grown": grown, "tuned": tuned}[os.environ.get("HARBOUR_PAGES", "grown")]


def calls_due(request):
    return render(
        request, "calls_due.html", {"calls": pages.calls_due(int(request.GET.get("first", 40)))}
    )


def berths(request):
    return render(request, "berths.html", {"board": pages.berth_board()})


def inspections(request):
    return render(request, "inspections.html", {"inspections": pages.inspections()})


urlpatterns = [
    path("calls/due", calls_due),
    path("berths", berths),
    path("inspections", inspections),
]
