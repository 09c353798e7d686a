"""Mend all on random stacks, and fixes pressed in random order: it ends, and nothing gets worse by a class."""

import random
import unittest

from apilado.core.document.edits import apply
from apilado.core.render.engine import Engine
from apilado.core.soundings.measures import measure
from apilado.core.soundings.registry import sound
from apilado.core.soundings.remedies import LOUDEST_CHANGE_LU, Findings, Workbench, found_in
from apilado.core.soundings.sounding import SEVERITY
from tests.seeded.stacks import seeded_stack, seeds

MOST_PRESSES = 30
COUNT = 1


def counted(findings: Findings) -> dict[str, list[int]]:
    """The severities of each rule's findings, the worst first."""
    found: dict[str, list[int]] = {}
    for sounding in findings.soundings:
        found.setdefault(sounding.id, []).append(SEVERITY[sounding.status])
    return {name: sorted(severities) for name, severities in found.items()}


class MendingTest(unittest.TestCase):
    def no_class_is_worse(self, before: Findings, after: Findings, about: object) -> None:
        """Reckoned here anew: the worst finding of a rule, the next worst, and so on."""
        was, now = counted(before), counted(after)
        for name, severities in now.items():
            padded = [*was.get(name, []), *[SEVERITY["fine"]] * len(severities)]
            for earlier, later in zip(padded, severities, strict=False):
                self.assertGreaterEqual(later, earlier, (about, name, was.get(name), severities))

    def keeps_its_loudness(self, before: Findings, after: Findings, about: object, times: int = 1) -> None:
        if not before.too_loud:
            allowed = times * LOUDEST_CHANGE_LU + 0.05
            self.assertLess(abs(after.loudness_lkfs - before.loudness_lkfs), allowed, about)

    def test_it_ends_and_nothing_gets_worse(self):
        mended = pressed = 0
        for seed in seeds(COUNT, first=103):
            stack, load = seeded_stack(seed, bars=1, sample_rate=44100)
            engine = Engine()
            try:
                mended += self.mended(seed, stack, Workbench(load, engine), load)
                pressed += self.pressed(seed, stack, Workbench(load, engine))
            finally:
                engine.close()
        self.assertGreater(mended, 2 * COUNT)
        self.assertGreater(pressed, 2 * COUNT)

    def mended(self, seed, stack, workbench, load):
        """How many remedies *Mend all* finds; each is what it says, measured by an engine that knows nothing of it."""
        plan = workbench.plan(stack)
        before = plan.before
        for step in plan.steps:
            self.no_class_is_worse(before, step.findings, (seed, step.title))
            before = step.findings
        self.keeps_its_loudness(plan.before, plan.after, seed)
        for verdict in plan.left:
            self.assertTrue(verdict.reason, (seed, verdict.sounding.id))
        left = {verdict.sounding.key for verdict in plan.left}
        self.assertLessEqual({each.key for each in plan.after.soundings if each.status != "fine"}, left, seed)
        if plan.edit is not None:
            fresh = Engine()
            measured = measure(apply(stack, plan.edit), load, fresh)
            values = {each.key: each.value for each in sound(measured)}
            promised = {each.key: each.value for each in plan.after.soundings}
            fresh.close()
            self.assertEqual(values.keys(), promised.keys(), seed)
            for key, value in promised.items():
                if value is not None:
                    self.assertAlmostEqual(values[key], value, delta=0.3, msg=(seed, key))
            self.assertAlmostEqual(
                measured.output_loudness.integrated_lkfs, plan.after.loudness_lkfs, delta=0.3, msg=seed
            )
        return len(plan.steps)

    def pressed(self, seed, stack, workbench):
        """How many fixes are there to be pressed, in random order, until no finding has one."""
        chance, began = random.Random(seed), workbench.findings(stack)
        presses = 0
        while presses <= MOST_PRESSES:
            measures = workbench.measured(stack)
            now = found_in(measures)
            open_ones = [sounding for sounding in now.soundings if sounding.status != "fine"]
            chance.shuffle(open_ones)
            verdicts = (workbench.verdict(measures, now, own) for own in open_ones)
            remedy = next((verdict.remedy for verdict in verdicts if verdict.remedy is not None), None)
            if remedy is None:
                break
            self.no_class_is_worse(now, remedy.findings, (seed, remedy.title))
            stack, presses = remedy.stack, presses + 1
        self.assertLessEqual(presses, MOST_PRESSES, f"seed {seed}: there is still a fix to be pressed")
        # Each knows nothing of where it began: *Mend all* does.
        self.keeps_its_loudness(began, now, seed, times=2)
        return presses
