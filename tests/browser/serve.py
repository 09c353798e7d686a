"""`apilado demo` with one file more: the recorder that the listening tests lay under the page.

What runs behind gives way to what is heard, but not to the other half of the suite, which would let it wait for minutes.
"""

import sys
from pathlib import Path

from starlette.staticfiles import StaticFiles

from apilado import cli
from apilado.core.render import engine
from apilado.web import app

made = app.create_app


def create_app(*arguments, **options):
    application = made(*arguments, **options)
    application.mount("/test", StaticFiles(directory=Path(__file__).parent))
    return application


app.create_app = create_app
engine.BEHIND_NICENESS = 0
sys.exit(cli.main(sys.argv[1:]))
