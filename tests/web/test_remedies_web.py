"""Remedies over HTTP: one finding at a time, and the plan line by line."""

import json
import threading

from apilado.core.render.engine import Rank
from tests.web.case import Structure, WebCase


class RemediesTest(WebCase):
    def setUp(self):
        super().setUp()
        self.stack_id = {item.stack.name: item.id for item in self.workspace.stacks.listed()}["Lock Gate"]

    def findings(self):
        answer = self.client.post(f"/stacks/{self.stack_id}/drawings", json={"client": "a", "view": {}}).json()
        tags = Structure(answer["soundings"]).tags
        return [json.loads(a["data-remedy"]) for _, a in tags if "data-remedy" in a]

    def remedy(self, finding, status=200):
        posted = {"client": "a", "finding": finding}
        answer = self.client.post(f"/stacks/{self.stack_id}/remedy", json=posted)
        self.assertEqual(answer.status_code, status, answer.text)
        return answer.json() if status != 204 else None

    def test_a_finding_is_offered_what_was_tried(self):
        finding = next(each for each in self.findings() if each[0] == "split-flat")
        told = self.remedy(finding)
        self.assertEqual(told["revision"], self.head().id)
        (edit,) = [json.loads(a["data-edit"]) for _, a in Structure(told["remedy"]).tags if "data-edit" in a]
        self.assertIn("Split flat 68.0 dB → 0.0 dB", told["remedy"])
        before = len(self.findings())
        self.edit(edit)
        self.assertLess(len(self.findings()), before)
        self.assertIn("it is fine", self.remedy(finding)["remedy"])

    def test_what_is_asked_for_nonsense_is_refused(self):
        for finding in (["sub-even"], [], ["a"] * 30, "x", None, [1, 2]):
            posted = {"client": "a", "finding": finding}
            answer = self.client.post(f"/stacks/{self.stack_id}/remedy", json=posted)
            self.assertEqual(answer.status_code, 422, finding)
        self.remedy(["no-such-rule", "bus"], status=404)
        self.assertEqual(self.client.get("/stacks/999/mending").status_code, 404)

    def test_an_edit_drops_what_is_tried(self):
        finding = next(each for each in self.findings() if each[0] == "sub-even")
        begun, found = threading.Event(), []
        computed = self.workspace.engine._computed

        def slowed(stage, inputs, token, rank):
            if rank is Rank.BEHIND:
                begun.set()
                going_on.wait(30)
            return computed(stage, inputs, token, rank)

        going_on = threading.Event()
        self.workspace.engine._computed = slowed
        asking = threading.Thread(target=lambda: found.append(self.remedy(finding, status=204)))
        asking.start()
        self.assertTrue(begun.wait(30))
        self.edit({"op": "set", "path": "layers/sub/level_db", "value": -7.0})
        going_on.set()
        asking.join(30)
        self.assertEqual(found, [None])

    def test_the_plan_is_told_line_by_line_and_is_what_it_says(self):
        answer = self.client.get(f"/stacks/{self.stack_id}/mending?client=a")
        *steps, last = [json.loads(line) for line in answer.text.splitlines()]
        self.assertGreaterEqual(len(steps), 5)
        self.assertTrue(all(step["step"] and step["sentence"] for step in steps))
        (edit,) = [json.loads(a["data-edit"]) for _, a in Structure(last["plan"]).tags if "data-edit" in a]
        self.assertEqual(len(edit["edits"]), len(steps))
        self.edit(edit)
        self.assertLessEqual(len(self.findings()), last["plan"].count('class="is-look"'))
        self.assertEqual(self.head().undo_title, f"Mend all: {len(steps)} remedies")
