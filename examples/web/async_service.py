"""An asynchronous service: pages read on an AsyncEngine.

After `make demo`: uvicorn --app-dir examples/web async_service:app
"""

import os
from contextlib import asynccontextmanager

from listings import arrivals, captures
from sqlalchemy.ext.asyncio import create_async_engine
from starlette.applications import Starlette
from starlette.responses import Response
from starlette.routing import Route

from vrelko.errors import VrelkoError
from vrelko.web import body_of, link_header, problem_of, request_from, to_json

url = os.environ.get("LARKMERE_URL", "sqlite:///larkmere/larkmere.db")
engine = create_async_engine(url.replace("sqlite:", "sqlite+aiosqlite:"))


async def read(request):
    listing = {"captures": captures, "arrivals": arrivals}[request.path_params["name"]]
    page = await listing.aread(engine, **request_from(request.query_params, listing))
    address = str(request.url)
    return Response(
        to_json(body_of(page, address)),
        headers={"Link": link_header(page, address)},
        media_type="application/json",
    )


async def refuse(request, error):
    problem = problem_of(error, request.url.path)
    return Response(to_json(problem), problem["status"], media_type="application/problem+json")


@asynccontextmanager
async def lifespan(app):
    yield
    await engine.dispose()


app = Starlette(
    routes=[Route("/{name}", read)], exception_handlers={VrelkoError: refuse}, lifespan=lifespan
)
