"""The guide: from a recording to a delivery, and every word of ours."""

from __future__ import annotations

import re
from functools import cache
from pathlib import Path

from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse
from markdown_it import MarkdownIt

from apilado.web.pages import page

router = APIRouter()
GUIDE = Path(__file__).parents[1] / "guide.md"
PICTURE = re.compile(r"^!\[.*\n+", re.MULTILINE)
"""On the bench the pictures are the pages themselves."""


@cache
def guide_html() -> str:
    """The guide as HTML, without its pictures; what it says of itself is trusted: it ships with the program."""
    text = PICTURE.sub("", GUIDE.read_text(encoding="utf-8"))
    return str(MarkdownIt("commonmark", {"html": False}).enable("table").render(text))


@router.get("/guide")
def guide(request: Request) -> HTMLResponse:
    """The guide as a page."""
    return HTMLResponse(page(request, "guide.html", guide=guide_html()))
