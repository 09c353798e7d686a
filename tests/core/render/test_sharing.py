"""Two threads that make a channel each of one result."""

import ast
import os
import subprocess
import sys
import threading
import unittest
from unittest import mock

import numpy as np

from apilado.core.clock import Clock
from apilado.core.document.path import every_treatment
from apilado.core.render import engine
from apilado.core.render.engine import Engine, Rank, Token
from apilado.core.render.stage import stage
from apilado.core.treatments.filter import Filter
from apilado.core.treatments.soft_clip import SoftClip
from tests.seeded.stacks import seeded_stack, seeds
from tests.support import graph_of

SOUND = np.random.default_rng(18).standard_normal((2, 500)).astype(np.float32)


def given():
    return SOUND


class SharingTest(unittest.TestCase):
    def setUp(self):
        self.engine = Engine(threads=2)
        self.addCleanup(self.engine.close)
        self.seen = []

    def doubled(self, audio):
        self.seen.append((audio.shape[0], threading.get_ident()))
        return audio * 2.0

    def wanted(self, function, **told):
        return stage(function, stage(given), kept=False, each_channel=True, **told)

    def test_both_at_once_where_a_thread_has_nothing_to_do(self):
        meeting = threading.Barrier(2)

        def met(audio):
            meeting.wait(timeout=60.0)  # nobody gets past it alone
            return self.doubled(audio)

        (found,) = self.engine.run([self.wanted(met)])
        np.testing.assert_array_equal(found, SOUND * 2.0)
        self.assertEqual([channels for channels, _ in self.seen], [1, 1])
        self.assertEqual(len({thread for _, thread in self.seen}), 2)

    def test_the_time_of_both_is_told(self):
        token, wanted = Token(), self.wanted(self.doubled)
        with mock.patch.object(engine, "_timed", lambda stage, inputs, check: (stage.result(*inputs), 1.5)):
            self.engine.run([wanted], token)
        self.assertEqual(token.spent[wanted.key], 3.0)

    def test_a_thread_that_does_not_come_is_not_waited_for(self):
        let_go = threading.Event()
        self.addCleanup(let_go.set)
        held = threading.Event()
        self.engine.pools[Rank.USUAL].submit(lambda: (held.set(), let_go.wait(60.0)))
        held.wait(60.0)
        (found,) = self.engine.run([self.wanted(self.doubled)])
        np.testing.assert_array_equal(found, SOUND * 2.0)
        self.assertEqual(len({thread for _, thread in self.seen}), 1)

    def test_what_waits_behind_keeps_nobody_from_sharing(self):
        begun, let_go = threading.Event(), threading.Event()
        behind = stage(lambda: (begun.set(), let_go.wait(60.0)))
        waiting = threading.Thread(target=self.engine.run, args=([behind], Token(behind=True)))
        waiting.start()
        begun.wait(60.0)
        self.engine.run([self.wanted(self.doubled)])
        let_go.set()
        waiting.join()
        self.assertEqual([channels for channels, _ in self.seen], [1, 1])

    def test_nothing_is_shared_with_one_thread_or_behind_or_of_one_channel(self):
        one = Engine(threads=1)
        self.addCleanup(one.close)
        one.run([self.wanted(self.doubled)])
        self.engine.run([self.wanted(self.doubled)], Token(behind=True))
        self.engine.run([stage(self.doubled, stage(lambda: SOUND[:1]), kept=False, each_channel=True)])
        self.assertEqual([channels for channels, _ in self.seen], [2, 2, 1])

    def test_what_fails_in_either_channel_fails(self):
        for bad in (0, 1):

            def fails(audio, bad=bad):
                if np.array_equal(audio, SOUND[bad : bad + 1]):
                    raise ValueError("no such channel")
                return audio

            with self.assertRaisesRegex(ValueError, "no such channel"):
                self.engine.run([self.wanted(fails)])


class LibraryTest(unittest.TestCase):
    def test_linear_algebra_takes_no_threads_of_its_own(self):
        told = "import apilado.cli, scipy.linalg, threadpoolctl; print(threadpoolctl.threadpool_info())"
        alone = {name: value for name, value in os.environ.items() if not name.endswith("NUM_THREADS")}
        found = subprocess.run([sys.executable, "-c", told], env=alone, check=True, capture_output=True, text=True)
        threads = [each["num_threads"] for each in ast.literal_eval(found.stdout) if each["user_api"] == "blas"]
        self.assertEqual(set(threads), {1})


class EachChannelTest(unittest.TestCase):
    def test_what_says_so_makes_each_channel_by_itself(self):
        clock, tried = Clock(97.0, 1.0, 44100, looped=True), set()
        sound = 0.3 * np.random.default_rng(3).standard_normal((2, clock.frames)).astype(np.float32)
        for seed in seeds(20, first=1800):
            stack, _ = seeded_stack(seed)
            owners = {"bus": stack.bus.path, **{layer.id: layer.path for layer in stack.layers}}
            steps = [step for owner, path in owners.items() for _, step in every_treatment(owner, path)]
            for step in [SoftClip(id="clip"), Filter(id="lid", drive_db=12.0), *steps]:
                if step.each_channel and step.kind not in tried:
                    tried.add(step.kind)
                    both = step.process(sound, clock)
                    apart = np.concatenate([step.process(sound[side : side + 1], clock) for side in (0, 1)])
                    np.testing.assert_array_equal(apart, both, step.kind)
        self.assertGreater(len(tried), 4)

    def test_the_stages_say_it(self):
        stack, load = seeded_stack(1801)
        stack = stack.model_copy(
            update={"layers": (stack.layers[0].model_copy(update={"path": (SoftClip(id="clip"),), "frozen": None}),)}
        )
        waiting, found = [graph_of(stack, load).layers[stack.layers[0].id]], {}
        while waiting:
            each = waiting.pop()
            found[each.name] = found.get(each.name, False) or each.each_channel
            waiting += each.inputs
        self.assertTrue(found["treat"])
        self.assertFalse(found["place"])


if __name__ == "__main__":
    unittest.main()
