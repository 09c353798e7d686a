"""Commands: demo, serve."""

from __future__ import annotations

import argparse
import contextlib
import secrets
import socket
import sys
import threading
from typing import TYPE_CHECKING

from apilado import memory
from apilado.errors import ApiladoError

if TYPE_CHECKING:
    from apilado.web.security import Doors

FIRST_PAGE_S = 1.0
"""By then the first page is there, which need not wait for what sounds need."""
SWITCH_SECONDS = 0.001
"""How long a thread that tries remedies may keep one that answers an edit waiting for the interpreter."""


def serve(given: argparse.Namespace) -> int:
    """Serves the bench until it is stopped."""
    import uvicorn

    from apilado.actions.warming import load_later
    from apilado.actions.workspace import Workspace
    from apilado.demo.shelf import fill_if_empty
    from apilado.web.app import create_app
    from apilado.web.patience import PatientProtocol
    from apilado.web.security import Doors

    allowed = tuple(name.strip() for name in given.allow_host.split(",") if name.strip())
    check_doors(given.host, allowed)
    sys.setswitchinterval(SWITCH_SECONDS)
    memory.look_once()
    listener = listening(given.host, given.port)
    port = listener.getsockname()[1]
    workspace = Workspace(given.data, cache_bytes=given.cache_mib * 2**20)
    if given.command == "demo":
        fill_if_empty(workspace)
    doors = Doors(given.host, port, allowed, key_for(given.host))
    config = uvicorn.Config(
        create_app(workspace, doors, given.history_days),
        log_level="warning",
        timeout_graceful_shutdown=2,
        http=PatientProtocol,
    )
    print(f"Apilado is ready at {address_of(doors)}", flush=True)
    if doors.key:
        print("It is open to the network: whoever has this address can hear and change everything in it.", flush=True)
    later = threading.Timer(FIRST_PAGE_S, load_later)
    later.daemon = True
    later.start()
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
    # Only where it is said to be TCP does asyncio send small parts at once: else that an edit is kept comes 40 ms late.
    listener = socket.socket(family, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind((host, port))
    except (OSError, OverflowError) as error:
        listener.close()
        raise ApiladoError(f"cannot listen on {host}, port {port}: {error}. Choose another with --port") from None
    listener.listen(128)
    return listener
