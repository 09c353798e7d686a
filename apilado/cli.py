"""The command line: parse, call a command, tell what went wrong. The commands are in `commands/`."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence
from pathlib import Path

from apilado import __version__, memory
from apilado.commands import checking, completion, making, serving, storing, telling
from apilado.errors import ApiladoError
from apilado.settings import SETTINGS, default

RATES = (44100, 48000, 96000)
BITS = ("16", "24", "32f")
STACK = "a .json (assets beside it in assets/) or a bundle"


def parser() -> argparse.ArgumentParser:
    """The parser of all commands."""
    top = argparse.ArgumentParser(prog="apilado", description="A bench for composite basses.")
    top.add_argument("--version", action="version", version=f"apilado {__version__}")
    commands = top.add_subparsers(dest="command", required=True, metavar="COMMAND")
    for name, text in (("demo", "serve with the demo stacks"), ("serve", "serve the bench")):
        served = commands.add_parser(name, help=text)
        for setting in SETTINGS:
            option = "--" + setting.name.replace("_", "-")
            said = f"{setting.help} (default {setting.default})"
            served.add_argument(
                option, dest=setting.name, type=type(setting.default), default=setting.default, help=said
            )
    _making(commands)
    _checking(commands)
    _storing(commands)
    commands.add_parser("schema", help="print the JSON Schema of a stack")
    commands.add_parser("steps", help="list every step of a path with its values and their ranges")
    commands.add_parser("prepare", help="compile the kernels ahead of the first sound")
    bench = commands.add_parser("bench", help="measure speed, as ratios within one run where that can be")
    bench.add_argument("words", metavar="WORD", nargs="*", help="measure only the parts whose title holds a word")
    bench.add_argument("--json", action="store_true", help="print the figures for a machine to read")
    shell = commands.add_parser("completion", help="print what a shell reads to complete these commands")
    shell.add_argument("shell", choices=completion.SHELLS)
    return top


def _many(command: argparse.ArgumentParser) -> None:
    """What every command has that takes many stacks."""
    command.add_argument("stacks", metavar="STACK", nargs="+", help=STACK)
    command.add_argument("--jobs", type=int, default=1, metavar="N", help="stacks that are worked on at the same time")
    command.add_argument("--json", action="store_true", help="print what was done for a machine to read")


def _writing(command: argparse.ArgumentParser) -> None:
    _many(command)
    command.add_argument(
        "--out", required=True, type=Path, metavar="DIR", help="of several stacks, each has its own in it"
    )
    command.add_argument("--force", action="store_true", help="write over files that are there")


def _making(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    render = commands.add_parser("render", help="write the sound of stacks to files")
    _writing(render)
    render.add_argument("--stems", action="store_true", help="bass, space, kick and layers too, with measures.json")
    render.add_argument("--mono", action="store_true", help="what is mono as files of one channel")
    render.add_argument("--one-pass", action="store_true", help="from silence, with the tail, instead of a loop")
    render.add_argument("--sections", action="store_true", help="each section apart, and what lies between")
    render.add_argument("--midi", action="store_true", help="pattern, hits and movements as MIDI files too")
    render.add_argument("--names", default="{part}", metavar="PATTERN", help="of the files, as {stack}-{tempo}-{part}")
    render.add_argument("--loudness", type=float, metavar="LUFS", help="the mix brought to this, all files alike")
    render.add_argument("--peak", type=float, metavar="DBTP", help="the true peak of the mix brought to this")
    render.add_argument("--format", choices=("wav", "flac"), default="wav")
    render.add_argument("--bits", choices=BITS, default="24")
    render.add_argument("--rate", type=int, choices=RATES, help="default: the stack's own")
    bounce = commands.add_parser("bounce", help="write a layer, the bus or all of a stack as one 32-bit float WAV")
    _writing(bounce)
    bounce.add_argument("--what", choices=("bus", "stack", "layers"), default="bus", help="without --layer")
    bounce.add_argument("--layer", action="append", metavar="NAME", help="a layer by its name or id; may be repeated")
    bounce.add_argument("--before-duck", action="store_true", help="of layers: before they are ducked")
    bounce.add_argument("--one-pass", action="store_true", help="from silence, with the tail, instead of a loop")
    bounce.add_argument("--bars", default="", metavar="FIRST-LAST", help="a bar or a run of bars, as 3-4")
    multisample = commands.add_parser("multisample", help="write the notes of a stack one by one, and an SFZ file")
    _writing(multisample)
    multisample.add_argument("--layer", default="", metavar="NAME", help="up to this layer; else all, behind the bus")
    multisample.add_argument("--from", dest="lowest", default="C1", metavar="NOTE", help="the lowest note (default C1)")
    multisample.add_argument("--to", dest="highest", default="C3", metavar="NOTE", help="the highest note (default C3)")
    multisample.add_argument("--every", type=int, default=3, metavar="SEMITONES")
    multisample.add_argument("--velocities", type=int, default=1, metavar="N")
    multisample.add_argument("--turns", type=int, default=1, metavar="N", help="round robins, from free phases")
    multisample.add_argument("--held", type=float, default=2.0, metavar="SECONDS")
    multisample.add_argument("--no-loops", action="store_true")
    multisample.add_argument("--bits", choices=BITS, default="24")
    multisample.add_argument("--rate", type=int, choices=RATES, help="default: the stack's own")


def _checking(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    check = commands.add_parser("check", help="print the soundings; exit 1 if there is a fault")
    _many(check)
    check.add_argument("--mend", action="store_true", help="print a plan that mends all, each remedy tried")
    check.add_argument("--write", type=Path, metavar="FILE", help="with --mend: the mended stack, .json or .apilado")
    check.add_argument("--force", action="store_true", help="write over a file that is there")


def _storing(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    def of_data(command: argparse.ArgumentParser) -> None:
        command.add_argument("--data", type=Path, default=default("data"), help="the data folder")

    imported = commands.add_parser(
        "import", help="put bundles on the shelf, sounds and folders of them into the Quarry"
    )
    imported.add_argument("files", metavar="FILE", type=Path, nargs="+")
    of_data(imported)
    store = commands.add_parser("store", help="tell what the data folder holds, and whether it is whole")
    of_data(store)
    store.add_argument("--all", action="store_true", help="read through every step of every history")
    store.add_argument("--mend", action="store_true", help="mend what can be mended")
    store.add_argument("--tidy", action="store_true", help="thin old history, pack, give free room back")
    days = next(setting for setting in SETTINGS if setting.name == "history_days")
    store.add_argument("--history-days", type=int, default=days.default, help=days.help)
    store.add_argument("--json", action="store_true")
    backup = commands.add_parser("backup", help="write one file of everything; the bench may run meanwhile")
    backup.add_argument("file", metavar="FILE", type=Path)
    backup.add_argument("--force", action="store_true", help="write over a file that is there")
    of_data(backup)
    restore = commands.add_parser("restore", help="make a data folder from a backup")
    restore.add_argument("file", metavar="FILE", type=Path)
    of_data(restore)
    demo_data = commands.add_parser("demo-data", help="write the demo bundles")
    demo_data.add_argument("folder", metavar="DIR", type=Path)


def main(arguments: Sequence[str] | None = None) -> int:
    """Runs a command; returns its exit status."""
    given = parser().parse_args(arguments)
    memory.keep_freed()
    try:
        return int(COMMANDS[given.command](given))
    except KeyboardInterrupt:
        print("apilado: stopped", file=sys.stderr)
        return 130
    except ApiladoError as error:
        print(f"apilado: {error}", file=sys.stderr)
    except OSError as error:
        where = f": {error.filename}" if error.filename else ""
        print(f"apilado: {error.strerror or error}{where}", file=sys.stderr)
    return 2


def _completion(given: argparse.Namespace) -> int:
    print(completion.script(parser(), given.shell), end="")
    return 0


COMMANDS = {
    "demo": serving.serve,
    "serve": serving.serve,
    "render": making.render,
    "bounce": making.bounce,
    "multisample": making.multisample,
    "check": checking.check,
    "import": storing.bring,
    "store": storing.store,
    "backup": storing.backup,
    "restore": storing.restore,
    "demo-data": storing.demo_data,
    "schema": telling.schema,
    "steps": telling.steps,
    "prepare": telling.prepare,
    "bench": telling.bench,
    "completion": _completion,
}
