"""Django: a grid and a feed as JSON, and the grid in a template of your own.

After `make demo`: python examples/web/django_pages.py runserver
"""

import sys

import django
from django.conf import settings
from django.http import HttpResponse
from django.urls import path
from django.utils.safestring import mark_safe
from listings import arrivals, captures, engine

from vrelko.errors import VrelkoError
from vrelko.web import body_of, link_header, problem_of, render_controls, request_from, to_json

TEMPLATE = """<!doctype html><title>Captures</title>
<ul>{% for row in page %}<li>{{ row.ring }} {{ row.caught_at }}</li>{% endfor %}</ul>{{ controls }}
"""

if not settings.configured:
    settings.configure(
        ROOT_URLCONF=__name__,
        SECRET_KEY="for this example alone",
        ALLOWED_HOSTS=["*"],
        DEBUG=False,
        MIDDLEWARE=[f"{__name__}.refuse"],
        TEMPLATES=[{"BACKEND": "django.template.backends.django.DjangoTemplates"}],
    )
    django.setup()


def refuse(get_response):
    """Middleware: what is wrong with a request comes as problem details."""

    def middleware(request):
        return get_response(request)

    def process_exception(request, error):
        if not isinstance(error, VrelkoError):
            return None
        problem = problem_of(error, request.path)
        return HttpResponse(to_json(problem), "application/problem+json", problem["status"])

    middleware.process_exception = process_exception
    return middleware


def read_captures(request):
    page = captures.read(engine, **request_from(request.GET, captures))
    url = request.get_full_path()
    return HttpResponse(
        to_json(body_of(page, url)), "application/json", headers={"Link": link_header(page, url)}
    )


def read_arrivals(request):
    page = arrivals.read(engine, **request_from(request.GET, arrivals))
    return HttpResponse(to_json(body_of(page, request.get_full_path())), "application/json")


def show_captures(request):
    from django.template import engines

    page = captures.read(engine, **request_from(request.GET, captures))
    controls = mark_safe(render_controls(page, request.get_full_path()))
    template = engines["django"].from_string(TEMPLATE)
    return HttpResponse(template.render({"page": page, "controls": controls}, request))


urlpatterns = [
    path("captures", read_captures),
    path("captures.html", show_captures),
    path("arrivals", read_arrivals),
]

if __name__ == "__main__":
    from django.core.management import execute_from_command_line

    execute_from_command_line(sys.argv)
