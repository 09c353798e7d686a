"""What a process does that is killed in the middle: edits, imports, bounces, deliveries, removals, tidying, backups."""

from __future__ import annotations

import multiprocessing
from multiprocessing.connection import Connection
from pathlib import Path

import numpy as np

from apilado.actions import quarry, stacks
from apilado.actions.bouncing import Bounce
from apilado.actions.delivery import Deliver
from apilado.actions.delivery_plan import DeliveryOptions
from apilado.actions.job_kinds import JOB_KINDS
from apilado.actions.jobs import Jobs
from apilado.actions.storing import backup
from apilado.actions.workspace import Workspace
from apilado.core.document.edits_values import SetValue
from apilado.core.render.bouncing import Bounced
from apilado.errors import ApiladoError
from apilado.store import tidying
from apilado.store.sounds import Filters
from apilado.store.tidying import tidy
from tests.support import noise, wav

PROCESSES = multiprocessing.get_context("forkserver")
PROCESSES.set_forkserver_preload(["tests.store.hard_work"])
DOES = ("edit", "edit", "import", "remove", "clear", "bounce", "deliver", "tidy", "backup")


def work(folder: Path, seed: int, told: Connection) -> None:
    """Works on the first stack until it is killed, and tells each edit before it begins and when it is acknowledged."""
    random = np.random.default_rng(seed)
    tidying.FREE_BYTES, tidying.FREE_SHARE = 1, 0.0  # give pages back each time
    workspace = Workspace(folder)
    jobs = Jobs(workspace, JOB_KINDS)
    told.send(("ready", 0.0))
    for number in range(10_000):
        does = DOES[int(random.integers(len(DOES)))]
        try:
            if does == "edit":
                value = round(float(random.uniform(100.0, 140.0)), 1)
                told.send(("asked", value))
                stacks.edit(workspace, 1, SetValue(path="tempo_bpm", value=value))
                told.send(("kept", value))
            elif does == "import":
                workspace.assets.add(wav(noise(800, seed=1000 * seed + number)), f"n{number}.wav")
            elif does == "remove":
                for entry in workspace.sounds.found(Filters(used="unused")).entries[:2]:
                    workspace.sounds.remove(entry.id)
            elif does == "clear":
                quarry.clear(workspace)
            elif does == "bounce":
                then = "laid" if random.integers(6) == 0 else ""
                bounced = Bounced(layers=("sub",), first_bar=1, last_bar=1)
                jobs.start(1, Bounce(bounced=bounced, then=then))
            elif does == "deliver":
                jobs.start(1, Deliver(options=DeliveryOptions(layers=False, mix=False, kick=False)))
            elif does == "tidy":
                tidy(workspace.database, 90)
            elif does == "backup":
                backup(folder, folder.parent / "all.zip")
        except ApiladoError:
            continue
