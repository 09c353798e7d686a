"""Command: check; the soundings of stacks, and the plan that mends one."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path
from typing import Any

from apilado.commands.stacks_in_files import each, opened
from apilado.errors import ApiladoError


def check(given: argparse.Namespace) -> int:
    """Prints the soundings; 1 where there is a fault, 2 where a stack cannot be read."""
    from apilado.core.render.engine import Engine
    from apilado.core.soundings.measures import measure
    from apilado.core.soundings.registry import sound
    from apilado.core.soundings.sounding import Sounding

    if given.write is not None and not given.mend:
        raise ApiladoError("--write goes with --mend: it writes the mended stack")
    if given.mend:
        if len(given.stacks) > 1:
            raise ApiladoError("--mend takes one stack at a time")
        return _mend(given)

    def one(path: str) -> list[Sounding]:
        with opened(path) as (stack, load, _):
            return sound(measure(stack, load, Engine()))

    found = each(given.stacks, given.jobs, one)
    if len(given.stacks) == 1 and isinstance(found[0], ApiladoError):
        raise found[0]
    if given.json:
        data = {path: _as_data(result) for path, result in zip(given.stacks, found, strict=True)}
        print(json.dumps(data if len(data) > 1 else data[given.stacks[0]], indent=1, ensure_ascii=False))
    else:
        for path, result in zip(given.stacks, found, strict=True):
            _print(path if len(given.stacks) > 1 else "", result)
    return max(_status(result) for result in found)


def _as_data(result: Any) -> Any:
    return {"error": str(result)} if isinstance(result, ApiladoError) else [each.as_data() for each in result]


def _print(path: str, result: Any) -> None:
    if isinstance(result, ApiladoError):
        print(f"apilado: {path}: {result}", file=sys.stderr)
        return
    if path:
        print(path)
    for sounding in result:
        print(f"{sounding.status:5}  {sounding.id:14} {sounding.sentence}")


def _status(result: Any) -> int:
    if isinstance(result, ApiladoError):
        return 2
    return int(any(sounding.status == "fault" for sounding in result))


def _mend(given: argparse.Namespace) -> int:
    """Prints the plan that mends all; exit 1 if it leaves a fault."""
    from apilado.core.document.reading import stack_to_json
    from apilado.core.formats.bundles import Bundle, write_bundle
    from apilado.core.render.engine import Engine
    from apilado.core.soundings.remedies import Trial, Workbench
    from apilado.store.assets import write_whole

    out: Path | None = given.write
    if out is not None and out.suffix.lower() not in (".json", ".apilado"):
        raise ApiladoError(f"'{out.name}': a stack is written as .json or, with its audio, as .apilado")
    if out is not None and out.exists() and not given.force:
        raise ApiladoError(f"'{out}' is there already; --force writes over it")

    def told(step: Trial) -> None:
        if not given.json:
            print(f"mend   {step.title}: {step.sentence}", flush=True)

    with opened(given.stacks[0]) as (stack, load, assets):
        plan = Workbench(load, Engine()).plan(stack, told=told)
        mended = plan.stack or stack
        if given.json:
            print(json.dumps(plan.as_data(), indent=1, ensure_ascii=False))
        else:
            for verdict in plan.left:
                print(f"{verdict.sounding.status:5}  {verdict.sounding.id:14} {verdict.reason}")
            print(f"{plan.before.loudness_lkfs:.1f} LUFS before, {plan.after.loudness_lkfs:.1f} after")
        if out is not None:
            named = set(mended.asset_hashes())
            bundle = Bundle(mended, tuple(asset for asset in assets if asset.sha256 in named))
            write_whole(out, stack_to_json(mended).encode() if out.suffix == ".json" else write_bundle(bundle))
    return int(plan.after.counted("fault") > 0)
