"""What the tests of the web application share: a workspace with the demo, a client, the tags of an answer."""

import html.parser
import unittest

from starlette.testclient import TestClient

from apilado.demo.shelf import fill_if_empty
from apilado.web.app import create_app
from tests.support import TemporaryWorkspace

HOST = "http://127.0.0.1:8765"


class WebCase(unittest.TestCase):
    def setUp(self):
        self.workspace = self.enterContext(TemporaryWorkspace())
        fill_if_empty(self.workspace)
        self.client = TestClient(create_app(self.workspace), base_url=HOST)
        self.addCleanup(self.client.close)
        self.stack_id = {item.stack.name: item.id for item in self.workspace.stacks.listed()}["Slipway"]

    def head(self):
        return self.workspace.stacks.head(self.stack_id)

    def edit(self, edit, *, status=200, base=None, gesture=None, view=None):
        posted = {"edit": edit, "base": base or self.head().id, "gesture": gesture, "view": view or {}}
        answer = self.client.post(f"/stacks/{self.stack_id}/edits", json=posted)
        self.assertEqual(answer.status_code, status, answer.text)
        return answer.json()


class Structure(html.parser.HTMLParser):
    """Every tag with its attributes; raises on nothing, so that tests ask."""

    def __init__(self, text):
        super().__init__()
        self.tags = []
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        self.tags.append((tag, dict(attrs)))
