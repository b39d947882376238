"""FastAPI: a grid and a feed as JSON, and the grid as server-rendered pages.

After `make demo`: uvicorn --app-dir examples/web fastapi_pages:app
"""

from fastapi import FastAPI, Request
from fastapi.responses import HTMLResponse, JSONResponse, Response
from listings import arrivals, captures, engine

from vrelko.errors import VrelkoError
from vrelko.web import (
    body_of,
    link_header,
    make_app,
    problem_of,
    render_document,
    request_from,
    to_json,
)

app = FastAPI(title="Larkmere")


@app.exception_handler(VrelkoError)
def refuse(request: Request, error: VrelkoError):
    problem = problem_of(error, request.url.path)
    return JSONResponse(problem, problem["status"], media_type="application/problem+json")


@app.get("/captures")
def read_captures(request: Request):
    page = captures.read(engine, **request_from(request.query_params, captures))
    url = str(request.url)
    return Response(
        to_json(body_of(page, url)),
        headers={"Link": link_header(page, url)},
        media_type="application/json",
    )


@app.get("/arrivals")
def read_arrivals(request: Request):
    page = arrivals.read(engine, **request_from(request.query_params, arrivals))
    return Response(to_json(body_of(page, str(request.url))), media_type="application/json")


@app.get("/captures.html", response_class=HTMLResponse)
def show_captures(request: Request):
    asked = request_from(request.query_params, captures)
    page = captures.read(engine, **asked)
    return render_document(page, f"?{request.url.query}", captures, order=asked["order"])


# Or everything at once, with exports and an OpenAPI description of its own:
app.mount("/listings", make_app({"captures": captures, "arrivals": arrivals}, engine))
