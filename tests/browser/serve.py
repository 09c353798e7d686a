"""`apilado demo` with one file more: the recorder that the listening tests lay under the page."""

import sys
from pathlib import Path

from starlette.staticfiles import StaticFiles

from apilado import cli
from apilado.web import app

made = app.create_app


def create_app(*arguments, **options):
    application = made(*arguments, **options)
    application.mount("/test", StaticFiles(directory=Path(__file__).parent))
    return application


app.create_app = create_app
sys.exit(cli.main(sys.argv[1:]))
