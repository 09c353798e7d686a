"""What a delivery will write, on the time axis of the piece: a bar for each file, as long as it really is."""

from __future__ import annotations

from dataclasses import dataclass

from apilado.actions.delivery import Planned
from apilado.actions.delivery_plan import DeliveryOptions, named, parts_of, stretches_of
from apilado.core.document.addresses import parted
from apilado.core.document.stack import Stack
from apilado.web.drawings.svg import label, tag

WIDTH, ROW, HEAD, SIZES = 1200.0, 30.0, 30.0, 90.0
"""Of the drawing; of a row; of the axis over them; of the column of sizes at the right."""
BAR_HEIGHT = 22.0
HEADER_BYTES = 80
BYTES = {"16": 2, "24": 3, "32f": 4}
FLAC_SHARE = 0.6
MOST_BAR_MARKS = 32
MONO_PARTS_UNKNOWN = 2


@dataclass(frozen=True)
class PlannedFile:
    """A file that will be written."""

    name: str
    tint: str
    begins_s: float
    ends_s: float
    tail_s: float
    """Seconds of it behind the last beat."""
    bytes: int
    exact: bool
    """Whether so many bytes are sure: what is packed is not, and what is mono may have one channel."""


def planned_files(stack: Stack, options: DeliveryOptions, plan: Planned, state: int) -> list[PlannedFile]:
    """The files of sound of a delivery, in the order in which they are drawn: part by part."""
    found, rate = [], plan.clock.rate_hz
    loop_s = plan.clock.loop_frames / rate
    for part in parts_of(stack, options):
        layer = stack.layer(parted(part.owner)[1]) if part.owner else None
        for place, stretch in enumerate(stretches_of(stack, options), start=1):
            first, last = plan.cut(stretch)
            size = (last - first) * MONO_PARTS_UNKNOWN * BYTES[options.bits]
            packed = options.file_format == "flac"
            found.append(
                PlannedFile(
                    f"{named(stack, options, part.key, place, stretch, state)}.{options.file_format}",
                    layer.tint if layer else "plain",
                    first / rate,
                    last / rate,
                    max(0.0, last / rate - loop_s),
                    round(size * FLAC_SHARE) if packed else size + HEADER_BYTES,
                    not packed and options.mono == "stereo",
                )
            )
    return found


def size_said(size: int, *, exact: bool = True) -> str:
    """A size in MB, as those of disks are."""
    said = f"{size / 1e6:.1f} MB" if size >= 100_000 else f"{size / 1e3:.0f} kB"
    return said if exact else f"≈ {said}"


def delivery_view(stack: Stack, options: DeliveryOptions, plan: Planned, state: int) -> str:
    """SVG of what will be written."""
    files = planned_files(stack, options, plan, state)
    rows = list(dict.fromkeys((each.tint, _row_of(each, files)) for each in files))
    places = {row: index for index, (_, row) in enumerate(rows)}
    seconds = plan.frames / plan.clock.rate_hz
    height = HEAD + ROW * max(1, len(rows)) + 6.0
    across = (WIDTH - SIZES) / max(seconds, 1e-6)
    parts = [*_axis(stack, across, height), *_sections(stack, across)]
    for number, each in enumerate(files):
        parts.append(_bar(each, number, across, HEAD + ROW * places[_row_of(each, files)]))
    for row, place in places.items():
        size = sum(each.bytes for each in files if _row_of(each, files) == row)
        exact = all(each.exact for each in files if _row_of(each, files) == row)
        y = HEAD + ROW * place + BAR_HEIGHT - 6.0
        parts.append(label(size_said(size, exact=exact), WIDTH - 4.0, y, class_="axis-number", text_anchor="end"))
    attributes = {"viewBox": f"0 0 {WIDTH:.0f} {height:.0f}", "role": "img", "class_": "delivery-drawing"}
    return tag("svg", *parts, **attributes, aria_label=f"{len(files)} files on the time axis of the piece")


def _row_of(each: PlannedFile, files: list[PlannedFile]) -> int:
    """Files of one part lie in one row, one behind the other."""
    starts = [index for index, other in enumerate(files) if other.begins_s == 0.0]
    return max(start for start in starts if start <= files.index(each))


def _axis(stack: Stack, across: float, height: float) -> list[str]:
    bar_s = stack.beats_per_bar * 60.0 / stack.tempo_bpm
    step = max(1, -(-stack.bars // MOST_BAR_MARKS))
    found = []
    for bar in range(0, stack.bars + 1, step):
        x = bar * bar_s * across
        last = bar == stack.bars
        found.append(tag("line", class_="end-line" if last else "rule", x1=x, x2=x, y1=HEAD - 8.0, y2=height))
        if not last:
            found.append(label(str(bar + 1), x + 4.0, HEAD - 4.0, class_="axis-number"))
    x = stack.bars * bar_s * across
    if stack.bars % step:
        found.append(tag("line", class_="end-line", x1=x, x2=x, y1=HEAD - 8.0, y2=height))
    return found


def _sections(stack: Stack, across: float) -> list[str]:
    bar_s, found = stack.beats_per_bar * 60.0 / stack.tempo_bpm, []
    for section in stack.sections:
        first, last = (section.first_bar - 1) * bar_s * across, section.last_bar * bar_s * across
        found.append(tag("rect", class_="section-band", x=first, y=2.0, width=last - first, height=14.0))
        found.append(label(section.name, first + 4.0, 13.0, class_="section-name"))
    return found


def _bar(each: PlannedFile, number: int, across: float, y: float) -> str:
    x, width = each.begins_s * across, (each.ends_s - each.begins_s) * across
    tail = each.tail_s * across
    shape = {"y": y, "height": BAR_HEIGHT}
    fill = f"url(#hatch-{each.tint})"
    parts = [
        tag("rect", class_="file-ground", x=x, width=width, **shape),
        tag("rect", class_="file-hatch", x=x, width=width - tail, fill=fill, **shape),
        tag("rect", class_="file-tail", x=x + width - tail, width=tail, **shape) if tail > 0.5 else "",
        tag("rect", class_="file-done", x=x, width=0.0, data_full=repr(width), **shape),
        tag("rect", class_="file-edge", x=x, width=width, **shape),
        label(each.name, x + 8.0, y + BAR_HEIGHT - 6.0, class_="file-name"),
    ]
    said = f"{each.name}: {each.ends_s - each.begins_s:.2f} s, {size_said(each.bytes, exact=each.exact)}"
    return tag("g", tag("title", said), *parts, class_=f"file tint-{each.tint}", data_file=number, data_name=each.name)
