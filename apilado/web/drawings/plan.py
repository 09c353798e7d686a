"""What is drawn from the document alone: redrawn with every edit, before any sound."""

from __future__ import annotations

from apilado.core.assets import AssetLoader, no_assets
from apilado.core.document.stack import Stack
from apilado.web.drawings.hit_view import hit_plan
from apilado.web.drawings.lines import border_lines, frequency_grid
from apilado.web.drawings.open_filter import open_filter
from apilado.web.drawings.open_step import curve, inner_borders
from apilado.web.drawings.plan_passage import passage, time_strip
from apilado.web.drawings.plan_profile import cutting, equaliser, harmonics
from apilado.web.drawings.sound_lane import Seconds, sound_marks
from apilado.web.drawings.view import View


def plan(
    stack: Stack, view: View, seconds_of: Seconds = lambda sha256: 0.0, load: AssetLoader = no_assets
) -> dict[str, str]:
    """SVG of the plan of each panel: 'pile', 'profile', 'passage', 'strip'.

    Args:
        seconds_of: how long a recorded sound is; where that is not known, nothing of it can be pulled.
        load: for responses from files.
    """
    profile = curve(stack, view)
    if view.mode != "curve":
        pulled = {"eq": equaliser, "harmonics": harmonics, "split": cutting}[view.mode]
        axis = frequency_grid(view, view.profile) + border_lines(stack, view, view.profile)
        profile = axis + inner_borders(stack, view) + pulled(stack, view)
        profile += open_filter(stack, view, load) if view.mode == "eq" else ""
    return {
        "pile": frequency_grid(view, view.pile, labelled=stack) + border_lines(stack, view, view.pile, named=True),
        "profile": profile,
        "passage": hit_plan(stack, view) if view.hit else passage(stack, view),
        "strip": time_strip(stack, view) + sound_marks(stack, view, seconds_of),
    }
