"""A real `apilado demo` in a process of its own, on a free port."""

from __future__ import annotations

import json
import os
import re
import signal
import subprocess
import sys
import urllib.request
from http.client import HTTPResponse
from pathlib import Path


class Server:
    def __init__(self, data: Path, module: str = "apilado") -> None:
        self.process = subprocess.Popen(
            [sys.executable, "-m", module, "demo", "--data", str(data), "--port", "0"],
            stdout=subprocess.PIPE,
            text=True,
        )
        line = self.process.stdout.readline()
        self.url = re.search(r"http://\S+", line)[0].rstrip("/")

    def opened(self, path: str, data: object = None) -> HTTPResponse:
        """What is answered to a question, with its headers."""
        body = None if data is None else json.dumps(data).encode()
        request = urllib.request.Request(self.url + path, body, {"Content-Type": "application/json"})
        return urllib.request.urlopen(request, timeout=60)

    def ask(self, path: str, data: object = None) -> bytes:
        with self.opened(path, data) as answer:
            return answer.read()

    def plan(self, stack_id: int) -> dict:
        """A stack as it is now, as the page would be told."""
        return json.loads(self.ask(f"/stacks/{stack_id}/plan", {"view": {}}))

    def stack(self, stack_id: int) -> dict:
        """A stack's document."""
        return json.loads(self.ask(f"/stacks/{stack_id}/export/json"))

    def kill(self) -> None:
        os.kill(self.process.pid, signal.SIGKILL)
        self.process.wait()
        self.process.stdout.close()
