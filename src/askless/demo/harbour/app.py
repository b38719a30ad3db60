"""The harbour office's web application: `python app.py DATABASE_URL [--port N] [--pages
grown|tuned]`.

Each page exists as it grew, asking too much, and as tuned. Both give the same page.
"""

from __future__ import annotations

import argparse
import logging
from collections.abc import Callable
from typing import Any

import grown
import tuned
from flask import Flask, g, render_template, request
from sqlalchemy import create_engine
from sqlalchemy.orm import Session
from werkzeug.serving import run_simple


def _second_floor(app: Flask, pages: Any, session: Callable[[], Session]) -> None:
    """Pages for what is seldom met, and for what writes."""

    @app.get("/calls/files")
    def files() -> str:
        first, last = (request.args.get(name, 0, int) for name in ("first", "last"))
        return render_template("files.html", calls=pages.files(session(), first, last))

    @app.get("/vessels/busiest")
    def busiest() -> str:
        return render_template("busiest.html", vessels=pages.busiest(session()))

    @app.get("/calls/history")
    def history() -> str:
        page, after = (request.args.get(name, 0, int) for name in ("page", "after"))
        return render_template("history.html", calls=pages.history(session(), page, after))

    @app.get("/clearances/<int:number>/ask")
    def clear(number: int) -> str:
        return render_template("clearance.html", clearance=pages.clear(session(), number))

    @app.get("/calls/<int:number>/manifest/check")
    def check_manifest(number: int) -> str:
        goods = request.args.get("goods", "").split(",")
        return render_template(
            "manifest.html", missing=pages.check_manifest(session(), number, goods)
        )

    @app.get("/log")
    def log() -> str:
        return render_template("log.html", entries=pages.log(session()))


def make_app(url: str, pages_name: str) -> Flask:
    app = Flask(__name__)
    engine = create_engine(url)
    pages = {"grown": grown, "tuned": tuned}[pages_name]

    def session() -> Session:
        if "session" not in g:
            g.session = Session(engine)
        return g.session

    @app.teardown_appcontext
    def close(error: BaseException | None) -> None:
        if "session" in g:
            g.session.close()

    @app.get("/")
    def index() -> str:
        return render_template("index.html")

    @app.get("/calls/due")
    def calls_due() -> str:
        return render_template(
            "calls_due.html", calls=pages.calls_due(session(), request.args.get("first", 40, int))
        )

    @app.get("/calls/<int:number>")
    def one_call(number: int) -> str:
        return render_template("one_call.html", **pages.one_call(session(), number))

    @app.get("/berths")
    def berths() -> str:
        return render_template("berths.html", board=pages.berth_board(session()))

    @app.get("/statistics")
    def statistics() -> str:
        return render_template("statistics.html", by_status=pages.statistics(session()))

    @app.get("/inspections")
    def inspections() -> str:
        return render_template("inspections.html", inspections=pages.inspections(session()))

    @app.get("/vessels")
    def vessels() -> str:
        return render_template(
            "vessels.html", vessels=pages.vessels(session(), request.args.get("after", 0, int))
        )

    @app.get("/vessels/<call_sign>")
    def vessel(call_sign: str) -> str:
        return render_template("vessel.html", **pages.vessel(session(), call_sign))

    _second_floor(app, pages, session)
    return app


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description="The harbour office's web application.")
    parser.add_argument("url")
    parser.add_argument("--port", type=int, default=8765)
    parser.add_argument("--pages", choices=["grown", "tuned"], default="grown")
    options = parser.parse_args()
    logging.getLogger("werkzeug").setLevel(logging.WARNING)
    run_simple("127.0.0.1", options.port, make_app(options.url, options.pages), threaded=True)
