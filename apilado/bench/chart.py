"""python -m apilado.bench.chart FOLDER FILE.svg: the chosen figures of every release, each beside its goal.

The folder holds what `apilado bench --json` printed of each release, in a file that is called by its version.
"""

from __future__ import annotations

import json
import sys
from dataclasses import dataclass
from html import escape
from pathlib import Path

SHOWN = (
    ("all of it, drives at 1× on both sides", "Reference stack against the library, both at 1×"),
    ("all of it, drives at 4× on both sides", "The same, both at 4×"),
    ("one thread against two", "One thread against two"),
    ("an EQ gain of one layer", "Loop after an EQ gain, against cold"),
    ("a crossover", "Loop after a crossover, against cold"),
    ("measuring all of it for the first time", "Measuring, against cold"),
    ("six waves that modulate, two moving filters", "Six waves that modulate, against cold"),
    ("16 bars: EQ, its stretch", "Heavy, 16 bars: an EQ gain is heard, ms"),
    ("16 bars: crossover, its stretch", "Heavy, 16 bars: a crossover is heard, ms"),
    ("16 bars: a moved note, its stretch", "Heavy, 16 bars: a moved note is heard, ms"),
    ("64 bars, ", "Heavy, 64 bars: cold, ms"),
    ("serve, to the first page", "From the command to the first page, ms"),
)
COLUMNS, WIDTH, HEIGHT = 3, 300, 160
LEFT, RIGHT, TOP, BOTTOM = 16, 60, 52, 28
ROOM = 1.15
"""Above the highest value, as its share."""


@dataclass(frozen=True)
class Course:
    """One figure over the releases."""

    title: str
    goal: float | None
    points: tuple[tuple[str, float], ...]
    """(version, value), the oldest first."""


def version_of(name: str) -> tuple[int, ...]:
    """A version as numbers, for them to stand in order."""
    return tuple(int(part) for part in name.split("."))


def courses(releases: dict[str, dict[str, object]]) -> list[Course]:
    """The figures that are shown, of releases by their versions, as far as they were measured."""
    found = []
    ordered = sorted(releases, key=version_of)
    for start, title in SHOWN:
        points, goal = [], None
        for version in ordered:
            for figure in releases[version]["figures"]:  # type: ignore[attr-defined]
                if figure["name"].startswith(start):
                    points.append((version, float(figure["value"])))
                    goal = figure["goal"]
                    break
        if points:
            found.append(Course(title, goal, tuple(points)))
    return found


def chart(shown: list[Course]) -> str:
    """An SVG of small panels, one for each figure, from nothing up."""
    rows = -(-len(shown) // COLUMNS)
    width, height = COLUMNS * WIDTH, rows * HEIGHT
    panels = [
        f'<g transform="translate({WIDTH * (n % COLUMNS)} {HEIGHT * (n // COLUMNS)})">{_panel(each)}</g>'
        for n, each in enumerate(shown)
    ]
    style = (
        "text{font:11px sans-serif;fill:#3a3630}.v{font-weight:bold}.s{fill:#6e675c}"
        "path,line{fill:none;stroke:#3a3630;stroke-width:1.5}.g{stroke:#a6541f;stroke-dasharray:4 3}.a{stroke:#c9c1b4}"
        ".t{fill:#a6541f;font-weight:bold}"
    )
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width} {height}" width="{width}" height="{height}">'
        f'<style>{style}</style><rect width="{width}" height="{height}" fill="#f7f3ea"/>{"".join(panels)}</svg>\n'
    )


def _panel(course: Course) -> str:
    highest = max([value for _, value in course.points] + [course.goal or 0.0]) * ROOM
    inner, floor = WIDTH - LEFT - RIGHT, HEIGHT - BOTTOM

    def y(value: float) -> float:
        return round(floor - (floor - TOP) * value / highest, 1)

    step = inner / max(1, len(course.points) - 1)
    places = [(round(LEFT + n * step, 1), y(value)) for n, (_, value) in enumerate(course.points)]
    drawn = [f'<text x="{LEFT}" y="22">{escape(course.title)}</text>']
    drawn.append(f'<line class="a" x1="{LEFT}" y1="{floor}" x2="{LEFT + inner}" y2="{floor}"/>')
    if course.goal is not None:
        at = y(course.goal)
        drawn.append(f'<line class="g" x1="{LEFT}" y1="{at}" x2="{LEFT + inner}" y2="{at}"/>')
        drawn.append(f'<text class="s" x="{LEFT}" y="37"><tspan class="t">┄</tspan> goal {course.goal:g}</text>')
    drawn.append(f'<path d="M{" L".join(f"{x} {there}" for x, there in places)}"/>')
    drawn += [f'<circle cx="{x}" cy="{there}" r="3" fill="#3a3630"/>' for x, there in places]
    (_, first), (x, there) = course.points[0], places[-1]
    drawn.append(f'<text class="v" x="{x + 7}" y="{there + 4}">{_told(course.points[-1][1])}</text>')
    if len(places) > 1:
        aside = 15 if there < places[0][1] else -7  # beside the way that it goes from there
        drawn.append(f'<text class="s" x="{LEFT}" y="{places[0][1] + aside}">{_told(first)}</text>')
    for n, ((version, _), (x, _)) in enumerate(zip(course.points, places, strict=True)):
        anchor = "start" if n == 0 else "middle"
        drawn.append(f'<text class="s" x="{x}" y="{HEIGHT - 12}" text-anchor="{anchor}">{escape(version)}</text>')
    return "".join(drawn)


def _told(value: float) -> str:
    return f"{value:.0f}" if value >= 10.0 else f"{value:.2f}"


def main(folder: str, file: str) -> int:
    releases = {path.stem: json.loads(path.read_text("utf-8")) for path in Path(folder).glob("*.json")}
    Path(file).write_text(chart(courses(releases)), "utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main(*sys.argv[1:3]))
