"""The command line: parse, call an action, print."""

from __future__ import annotations

import argparse
import contextlib
import hashlib
import json
import secrets
import socket
import sys
import tempfile
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from apilado import __version__
from apilado.errors import ApiladoError, NotFound, UnreadableFile
from apilado.settings import SETTINGS, default

if TYPE_CHECKING:
    from apilado.core.document.stack import Stack
    from apilado.core.dsp.audio import Audio
    from apilado.core.formats.bundles import Asset
    from apilado.core.sources.base import AssetLoader
    from apilado.web.security import Doors

SWITCH_SECONDS = 0.001
"""How long a thread that tries remedies may keep one that answers an edit waiting for the interpreter."""


def parser() -> argparse.ArgumentParser:
    """The parser of all commands."""
    top = argparse.ArgumentParser(prog="apilado", description="A bench for composite basses.")
    top.add_argument("--version", action="version", version=f"apilado {__version__}")
    commands = top.add_subparsers(dest="command", required=True, metavar="COMMAND")
    for name, text in (("demo", "serve with the demo stacks"), ("serve", "serve the bench")):
        served = commands.add_parser(name, help=text)
        for setting in SETTINGS:
            option = "--" + setting.name.replace("_", "-")
            given = f"{setting.help} (default {setting.default})"
            served.add_argument(
                option, dest=setting.name, type=type(setting.default), default=setting.default, help=given
            )
    render = commands.add_parser("render", help="write a stack's sound to files")
    render.add_argument("stack", metavar="STACK", help="a .json (assets beside it in assets/) or a bundle")
    render.add_argument("--out", required=True, type=Path, metavar="DIR")
    render.add_argument("--stems", action="store_true", help="bass, space, kick and layers too, with measures.json")
    render.add_argument("--mono", action="store_true", help="what is mono as files of one channel")
    render.add_argument("--force", action="store_true", help="write over files that are there")
    render.add_argument("--one-pass", action="store_true", help="from silence, with the tail, instead of a loop")
    render.add_argument("--format", choices=("wav", "flac"), default="wav")
    render.add_argument("--bits", choices=("16", "24", "32f"), default="24")
    render.add_argument("--rate", type=int, choices=(44100, 48000, 96000), help="default: the stack's own")
    check = commands.add_parser("check", help="print the soundings; exit 1 if there is a fault")
    check.add_argument("stack", metavar="STACK")
    check.add_argument("--json", action="store_true")
    check.add_argument("--mend", action="store_true", help="print a plan that mends all, each remedy tried")
    check.add_argument("--write", type=Path, metavar="FILE", help="with --mend: the mended stack, .json or .apilado")
    check.add_argument("--force", action="store_true", help="write over a file that is there")
    imported = commands.add_parser("import", help="put a bundle or a stack on the shelf")
    imported.add_argument("file", metavar="FILE", type=Path)
    imported.add_argument("--data", type=Path, default=default("data"))
    demo_data = commands.add_parser("demo-data", help="write the demo bundles")
    demo_data.add_argument("folder", metavar="DIR", type=Path)
    commands.add_parser("schema", help="print the JSON Schema of a stack")
    commands.add_parser("steps", help="list every step of a path with its values and their ranges")
    commands.add_parser("prepare", help="compile the kernels ahead of the first sound")
    commands.add_parser("bench", help="measure speed as ratios within one run")
    return top


def main(arguments: Sequence[str] | None = None) -> int:
    """Runs a command; returns its exit status."""
    given = parser().parse_args(arguments)
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


@contextlib.contextmanager
def opened(path_text: str) -> Iterator[tuple[Stack, AssetLoader, tuple[Asset, ...]]]:
    """The stack of a .json or a bundle, a loader of its assets, and the assets."""
    from apilado.core.document.reading import stack_from_json
    from apilado.core.formats.audio_files import EXTENSIONS, read_at
    from apilado.core.formats.bundles import Asset, read_bundle

    path = Path(path_text)
    content = path.read_bytes()
    held: dict[str, tuple[bytes, str]] = {}
    if content[:4] == b"PK\x03\x04" or path.suffix.lower() in (".apilado", ".zip"):
        bundle = read_bundle(content, path.name)
        stack = bundle.stack
        held = {asset.sha256: (asset.content, f"{asset.sha256}.{asset.extension}") for asset in bundle.assets}
    else:
        stack = stack_from_json(content)
        for sha in stack.asset_hashes():
            files = [path.parent / "assets" / f"{sha}.{extension}" for extension in EXTENSIONS]
            found = next((file for file in files if file.is_file()), None)
            if found is None:
                raise UnreadableFile(f"'{path.name}' needs assets/{sha[:12]}… beside it")
            data = found.read_bytes()
            if hashlib.sha256(data).hexdigest() != sha:
                raise UnreadableFile(f"the content of '{found.name}' does not match its SHA-256")
            held[sha] = (data, found.name)

    def load(sha: str, rate_hz: int) -> Audio:
        if sha not in held:
            raise NotFound(f"there is no asset {sha[:12]}…")
        return read_at(*held[sha], rate_hz)

    yield stack, load, tuple(Asset(sha, Path(name).suffix[1:], data) for sha, (data, name) in held.items())


def _serve(given: argparse.Namespace) -> int:
    import uvicorn

    from apilado.actions.workspace import Workspace
    from apilado.demo.shelf import fill_if_empty
    from apilado.web.app import create_app
    from apilado.web.patience import PatientProtocol
    from apilado.web.security import Doors

    allowed = tuple(name.strip() for name in given.allow_host.split(",") if name.strip())
    check_doors(given.host, allowed)
    sys.setswitchinterval(SWITCH_SECONDS)
    listener = listening(given.host, given.port)
    port = listener.getsockname()[1]
    workspace = Workspace(given.data, cache_bytes=given.cache_mib * 2**20)
    if given.command == "demo":
        fill_if_empty(workspace)
    doors = Doors(given.host, port, allowed, key_for(given.host))
    config = uvicorn.Config(
        create_app(workspace, doors), log_level="warning", timeout_graceful_shutdown=2, http=PatientProtocol
    )
    print(f"Apilado is ready at {address_of(doors)}", flush=True)
    if doors.key:
        print("It is open to the network: whoever has this address can hear and change everything in it.", flush=True)
    with contextlib.suppress(KeyboardInterrupt):
        uvicorn.Server(config).run(sockets=[listener])
    return 0


def check_doors(host: str, allowed: tuple[str, ...]) -> None:
    """Refuses a bench that nobody could ask for.

    Raises:
        ApiladoError: it listens on every address, and no name is allowed under which it may be asked for.
    """
    from apilado.web.security import is_wildcard

    if is_wildcard(host) and not allowed:
        raise ApiladoError(
            f"{host} listens on every address of this machine: say under which names the bench may be asked for, "
            "as in --allow-host bench.local,192.168.1.20"
        )


def key_for(host: str) -> str:
    """A new key for a bench beyond loopback; none is needed within it."""
    from apilado.web.security import is_loopback

    return "" if is_loopback(host) else secrets.token_urlsafe(24)


def address_of(doors: Doors) -> str:
    """The address to open, with its key where it needs one."""
    from apilado.web.security import KEY_NAME, is_wildcard

    name = doors.allowed[0] if is_wildcard(doors.host) else doors.host
    shown = f"[{name}]" if ":" in name else name
    return f"http://{shown}:{doors.port}/" + (f"?{KEY_NAME}={doors.key}" if doors.key else "")


def listening(host: str, port: int) -> socket.socket:
    """A socket that listens; port 0 takes a free one.

    Raises:
        ApiladoError: the address is taken, or none of this machine's.
    """
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    listener = socket.socket(family, socket.SOCK_STREAM)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind((host, port))
    except (OSError, OverflowError) as error:
        listener.close()
        raise ApiladoError(f"cannot listen on {host}, port {port}: {error}. Choose another with --port") from None
    listener.listen(128)
    return listener


def _render(given: argparse.Namespace) -> int:
    from apilado.actions.delivery import REPORT, clipping_in_words, rendered_files
    from apilado.actions.delivery_plan import DeliveryOptions, file_names
    from apilado.core.render.engine import Engine
    from apilado.store.assets import write_whole

    with opened(given.stack) as (stack, load, _):
        options = DeliveryOptions(
            extent="one-pass" if given.one_pass else "loop",
            file_format=given.format,
            bits=given.bits,
            rate_hz=given.rate or stack.sample_rate,
            mono="mono" if given.mono else "stereo",
            layers=given.stems,
            bass=given.stems,
            space=given.stems,
            kick=given.stems,
        )
        given.out.mkdir(parents=True, exist_ok=True)
        there = [name for name in file_names(stack, options) if (given.out / name).exists()]
        if there and not given.force:
            raise ApiladoError(
                f"'{given.out}' holds {', '.join(there)} already: nothing was written. --force writes over them"
            )
        for name, content in rendered_files(stack, load, Engine(), options, lambda share, doing: None):
            if name != REPORT or given.stems:
                write_whole(given.out / name, content)
                print(given.out / name)
            if name == REPORT and (said := clipping_in_words(content)):
                print(f"apilado: {said}", file=sys.stderr)
    return 0


def _check(given: argparse.Namespace) -> int:
    from apilado.core.render.engine import Engine
    from apilado.core.soundings.measures import measure
    from apilado.core.soundings.registry import sound

    if given.write is not None and not given.mend:
        raise ApiladoError("--write goes with --mend: it writes the mended stack")
    if given.mend:
        return _mend(given)
    with opened(given.stack) as (stack, load, _):
        soundings = sound(measure(stack, load, Engine()))
    if given.json:
        print(json.dumps([sounding.as_data() for sounding in soundings], indent=1, ensure_ascii=False))
    else:
        for sounding in soundings:
            print(f"{sounding.status:5}  {sounding.id:14} {sounding.sentence}")
    return int(any(sounding.status == "fault" for sounding in soundings))


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

    with opened(given.stack) as (stack, load, assets):
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


def _import(given: argparse.Namespace) -> int:
    from apilado.actions.stacks import import_stack
    from apilado.actions.workspace import Workspace

    content = given.file.read_bytes()
    workspace = Workspace(given.data)
    revision = import_stack(workspace, content, given.file.name)
    print(f"'{revision.stack.name}' is on the shelf as stack {revision.stack_id}")
    workspace.close()
    return 0


def _demo_data(given: argparse.Namespace) -> int:
    from apilado.actions.delivery_plan import safe_name
    from apilado.core.formats.bundles import write_bundle
    from apilado.demo.starts import demo_bundles
    from apilado.store.assets import write_whole

    given.folder.mkdir(parents=True, exist_ok=True)
    for bundle in demo_bundles():
        path = given.folder / f"{safe_name(bundle.stack.name).lower()}.apilado"
        write_whole(path, write_bundle(bundle))
        print(path)
    return 0


def _steps(given: argparse.Namespace) -> int:
    from apilado.core.document.steps_told import steps_told

    print(steps_told(), end="")
    return 0


def _schema(given: argparse.Namespace) -> int:
    from apilado.core.document.reading import schema

    print(json.dumps(schema(), indent=1))
    return 0


def _prepare(given: argparse.Namespace) -> int:
    from apilado.actions.warming import warm
    from apilado.actions.workspace import Workspace
    from apilado.demo.shelf import fill_if_empty

    with tempfile.TemporaryDirectory() as folder:
        workspace = Workspace(Path(folder))
        fill_if_empty(workspace)
        warm(workspace)
        workspace.close()
    return 0


def _bench(given: argparse.Namespace) -> int:
    from apilado.bench.report import run

    return run(sys.stdout)


COMMANDS = {
    "demo": _serve,
    "serve": _serve,
    "render": _render,
    "check": _check,
    "import": _import,
    "demo-data": _demo_data,
    "schema": _schema,
    "steps": _steps,
    "prepare": _prepare,
    "bench": _bench,
}
