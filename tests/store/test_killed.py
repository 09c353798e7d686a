"""Killed at any moment: no half file, no lost edit, no entry without its audio, and nothing that `apilado store` finds."""

import tempfile
import unittest
import zipfile
from pathlib import Path

import numpy as np

from apilado.actions.storing import restore
from apilado.actions.workspace import DATABASE_NAME, Workspace
from apilado.demo.stacks import slipway
from apilado.store.examining import examine
from tests.seeded.stacks import TIMES
from tests.store.hard_work import PROCESSES, work

KILLS = 12


class KilledTest(unittest.TestCase):
    def test_nothing_is_lost_and_nothing_is_half(self):
        with tempfile.TemporaryDirectory() as path:
            folder = Path(path) / "data"
            workspace = Workspace(folder)
            stands = workspace.stacks.create(slipway().stack).stack.tempo_bpm
            workspace.close()
            for number in range(KILLS * TIMES):
                with self.subTest(number):
                    kept, asked = self.killed(folder, number)
                    workspace = Workspace(folder)  # as the next start does
                    before, stands = stands, workspace.stacks.head(1).stack.tempo_bpm
                    running = [job for job in workspace.jobs.listed() if job.state == "running"]
                    workspace.close()
                    self.assertEqual(running, [])
                    # The last that was acknowledged, or the one that was asked for after it.
                    self.assertIn(stands, [*(kept or [before])[-1:], *asked[len(kept) :]])
                    found = examine(folder, DATABASE_NAME, every=number % 4 == 0)
                    self.assertEqual(found.faults, [])
            archive = folder.parent / "all.zip"
            if archive.exists():
                self.assertIsNone(zipfile.ZipFile(archive).testzip())
                restored = restore(archive, folder.parent / "again")
                self.assertEqual(restored.faults, [])

    def killed(self, folder, seed):
        """Has a process work, and kills it: (what was acknowledged, what was asked for), in their order."""
        own, its = PROCESSES.Pipe(duplex=False)
        process = PROCESSES.Process(target=work, args=(folder, seed, its), daemon=True)
        process.start()
        its.close()
        told = [own.recv()]  # it has begun
        process.join(float(np.random.default_rng([7, seed]).uniform(0.0, 0.9)))
        process.kill()
        process.join()
        while True:
            try:
                told.append(own.recv())
            except EOFError:
                break
        own.close()
        return [[value for what, value in told if what == word] for word in ("kept", "asked")]
