"""What the tests of the web application share: a workspace with the demo, a client, the tags of an answer."""

import html
import html.parser
import json
import re
import unittest

import numpy as np
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

    def loop(self, *, against=(), status=200, **heard):
        """(the loop as an audition hears it, shape (2, frames), the headers of the answer); of a refusal, its words."""
        asked = {"client": "t", "heard": heard, "against": list(against)}
        answer = self.client.post(f"/stacks/{self.stack_id}/loop", json=asked)
        self.assertEqual(answer.status_code, status, answer.text[:300] if status != 200 else "")
        if status != 200:
            return answer.json()["error"]
        return np.frombuffer(answer.content, "<f4").reshape(2, -1), answer.headers

    def hearing(self, **heard):
        """The line of words that tells what is heard."""
        answer = self.client.post(f"/stacks/{self.stack_id}/hearing", json={"heard": heard})
        self.assertEqual(answer.status_code, 200, answer.text)
        return [word["said"] for word in answer.json()["words"] if word["said"]]

    def type(self, path, value, *, selected, item="", status=200):
        """Puts a value into the control at a path of a sheet, as the page does: with the edit that the control carries."""
        sheet = self.client.get(f"/stacks/{self.stack_id}/sheet?selected={selected}&item={item}&opened=*").text
        controls = [a for _, a in Structure(sheet).tags if a.get("data-path") == path and "data-makes" in a]
        self.assertTrue(controls, f"there is no control for {path}")
        edit = {**json.loads(controls[-1]["data-makes"]), controls[-1]["data-named"]: value}
        return self.edit(edit, status=status)

    def choose(self, path, shown, *, selected):
        """Chooses from the menu at a path of a sheet."""
        sheet = self.client.get(f"/stacks/{self.stack_id}/sheet?selected={selected}&opened=*").text
        menu = sheet.split(f'id="f-{path}" data-menu')[1].split("</select>")[0]
        options = dict(re.findall(r'<option value="([^"]*)"[^>]*>([^<]*)<', menu))
        return self.edit(json.loads(html.unescape(next(value for value, text in options.items() if text == shown))))


class Structure(html.parser.HTMLParser):
    """Every tag with its attributes; raises on nothing, so that tests ask."""

    def __init__(self, text):
        super().__init__()
        self.tags = []
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        self.tags.append((tag, dict(attrs)))
