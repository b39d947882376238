"""Flask: a grid and a feed as JSON, and the feed as server-rendered pages.

After `make demo`: PYTHONPATH=examples/web flask --app flask_pages run
"""

from flask import Flask, Response, request
from listings import arrivals, captures, engine

from vrelko.errors import VrelkoError
from vrelko.web import (
    body_of,
    link_header,
    problem_of,
    render_document,
    render_fragment,
    request_from,
    to_json,
)

app = Flask(__name__)


@app.errorhandler(VrelkoError)
def refuse(error):
    problem = problem_of(error, request.path)
    return Response(to_json(problem), problem["status"], mimetype="application/problem+json")


@app.get("/captures")
def read_captures():
    page = captures.read(engine, **request_from(request.args, captures))
    headers = {"Link": link_header(page, request.full_path)}
    return Response(
        to_json(body_of(page, request.full_path)), 200, headers, mimetype="application/json"
    )


@app.get("/arrivals")
def read_arrivals():
    page = arrivals.read(engine, **request_from(request.args, arrivals))
    return Response(to_json(body_of(page, request.full_path)), mimetype="application/json")


@app.get("/arrivals.html")
def show_arrivals():
    """A whole document, or its changing part alone for a script that asks for it."""
    page = arrivals.read(engine, **request_from(request.args, arrivals))
    part = request.headers.get("Page-Part") == "fragment"
    render = render_fragment if part else render_document
    return render(page, request.full_path, arrivals)
