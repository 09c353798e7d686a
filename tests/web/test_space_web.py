"""The space and the new treatments over HTTP and in the drawings: rows, sends, sheets, responses from files."""

import unittest

import numpy as np

from apilado.core.document.edits import apply
from apilado.core.document.edits_values import AddPart, SetValue
from apilado.core.soundings.measures import measure
from apilado.demo.breakwater import breakwater
from apilado.demo.stacks import slipway
from apilado.web.drawings.measured_profile import profile
from apilado.web.drawings.plan import plan
from apilado.web.drawings.view import View
from tests.support import ENGINE, loader, sha256, wav
from tests.web.case import Structure, WebCase

MID = "layers/mid"


class SpaceTest(WebCase):
    def sheet(self, selected, **asked):
        return self.client.get(f"/stacks/{self.stack_id}/sheet", params={"selected": selected, **asked}).text

    def fields(self, text):
        return {a["data-path"]: a for _, a in Structure(text).tags if "data-makes" in a}

    def test_every_part_that_can_send_has_its_send_in_its_sheet_and_in_that_of_the_space(self):
        for selected, owner in (("layer:mid", MID), ("bus", "bus"), ("kick", "kick")):
            text = self.sheet(selected, opened="*")
            self.assertIn(f"{owner}/send", self.fields(text))
        text = self.sheet("space", opened="*")
        sends = {path for path in self.fields(text) if path.endswith("/send")}
        self.assertEqual(sends, {"layers/sub/send", "layers/mid/send", "layers/high/send", "bus/send", "kick/send"})
        self.assertIn("nothing yet", text)
        self.assertIn("space/path/room/decay_s", self.fields(text))
        self.edit({"op": "set", "path": "kick/send", "value": 0.1})
        for selected, owner in (("layer:mid", MID), ("bus", "bus"), ("kick", "kick")):
            text = self.sheet(selected, opened="*")
            self.assertIn(f"{owner}/send", self.fields(text))
            self.assertIn(f"{owner}/sent", [a.get("data-line") for _, a in Structure(text).tags])
            self.assertIn("space", [a.get("data-select") for _, a in Structure(text).tags])

    def test_its_row_comes_with_the_first_send_and_it_can_be_muted_and_heard_alone(self):
        rows = f"/stacks/{self.stack_id}/layers"
        self.assertNotIn("space", [a.get("data-select") for _, a in Structure(self.client.get(rows).text).tags])
        self.edit({"op": "set", "path": f"{MID}/send", "value": "0.5"})
        found = Structure(self.client.get(rows).text).tags
        self.assertIn("space", [a.get("data-select") for _, a in found])
        self.assertIn("space", [a.get("data-alone") for _, a in found])
        self.assertIn("space/mute", [a.get("data-path") for _, a in found])

        whole, alone = self.loop()[0], self.loop(alone=["space"])[0]
        self.assertGreater(float(np.abs(alone).max()), 1e-4)
        self.assertLess(float(np.sum(alone**2)), float(np.sum(whole**2)))
        self.edit({"op": "set", "path": "space/mute", "value": True})
        self.assertEqual(float(np.abs(self.loop(alone=["space"])[0]).max(initial=0.0)), 0.0)

    def test_a_send_out_of_range_is_refused_by_name(self):
        answer = self.edit({"op": "set", "path": f"{MID}/send", "value": "1.5"}, status=422)
        self.assertIn("send of mid runs from 0 to 1", answer["error"].lower())
        self.assertEqual(self.head().stack.layer("mid").send, 0.0)

    def test_steps_of_it_are_added_copied_and_measured(self):
        self.edit({"op": "set", "path": f"{MID}/send", "value": 0.5})
        self.edit({"op": "add", "path": "space/path", "part": {"kind": "phaser"}})
        self.edit({"op": "copy-part", "path": "space/path/room", "to": "layers/high/path"})
        self.assertEqual([step.kind for step in self.head().stack.space.path], ["reverb", "phaser"])
        self.assertIn("reverb", [step.kind for step in self.head().stack.layer("high").path])
        asked = {"client": "t", "view": {"selected": "space"}}
        answer = self.client.post(f"/stacks/{self.stack_id}/drawings", json=asked)
        self.assertEqual(answer.status_code, 200, answer.text[:200])
        self.assertIn("level space/path/room", answer.json()["texts"])

    def test_a_delivery_has_the_space_by_itself(self):
        from apilado.actions.delivery_plan import DeliveryOptions, file_names

        stack = self.head().stack
        self.assertNotIn("space.wav", file_names(stack, DeliveryOptions()))
        sending = apply(stack, SetValue(path="bus/send", value=0.3))
        self.assertIn("space.wav", file_names(sending, DeliveryOptions()))
        self.assertNotIn("space.wav", file_names(sending, DeliveryOptions(space=False)))


class ResponseTest(WebCase):
    def test_a_response_is_read_from_a_file_and_given_back(self):
        self.edit({"op": "add", "path": f"{MID}/path", "part": {"kind": "cabinet"}})
        step = next(each for each in self.head().stack.layer("mid").path if getattr(each, "kind", "") == "cabinet")
        response = f"{MID}/path/{step.id}/responses/{step.responses[0].id}"
        text = self.client.get(f"/stacks/{self.stack_id}/sheet", params={"selected": "layer:mid", "opened": "*"}).text
        self.assertIn(response, [a.get("data-upload") for _, a in Structure(text).tags])
        impulse = np.zeros((1, 480), np.float32)
        impulse[0, 0] = 1.0
        address = f"/stacks/{self.stack_id}/audio"
        bad = self.client.post(address, data={"target": response}, files={"file": ("hall.wav", b"RIFF....")})
        self.assertEqual(bad.status_code, 422)
        file = wav(impulse)  # another one would say that it was written a second later
        answer = self.client.post(address, data={"target": response}, files={"file": ("hall.wav", file)})
        self.assertEqual(answer.status_code, 200, answer.text)
        kept = self.head().stack.layer("mid").path
        found = next(each for each in kept if getattr(each, "kind", "") == "cabinet").responses[0]
        self.assertEqual((found.recorded.file_name, found.recorded.asset), ("hall.wav", sha256(file)))
        self.assertAlmostEqual(found.recorded.lasts_s, 0.01, places=4)
        bundle = self.client.get(f"/stacks/{self.stack_id}/export/bundle").content
        self.assertIn(found.recorded.asset.encode(), bundle)
        text = self.client.get(f"/stacks/{self.stack_id}/sheet", params={"selected": "layer:mid", "opened": "*"}).text
        self.assertIn("Response: hall.wav", text)
        self.edit({"op": "set", "path": f"{response}/recorded", "value": None})

    def test_open_cabinets_and_rooms_are_drawn_in_the_profile(self):
        stack = slipway().stack
        for kind in ("cabinet", "reverb", "filter"):
            made = apply(stack, AddPart(path=f"{MID}/path", part={"kind": kind, "id": "new"}))
            view = View(selected="layer:mid", open=f"{MID}/path/new")
            drawn = plan(made, view)["profile"]
            curves = [a for _, a in Structure(drawn).tags if a.get("class", "").startswith("filter-curve")]
            self.assertEqual(len(curves), 1, kind)
        inner = next(iter(made.layers)).id  # nothing is open that has a response
        self.assertNotIn("filter-curve", plan(stack, View(selected=f"layer:{inner}", open=""))["profile"])
        cabinet = apply(stack, AddPart(path=f"{MID}/path", part={"kind": "cabinet", "id": "new"}))
        response = cabinet.layer("mid").path[-1].responses[0].id
        view = View(selected="layer:mid", open=f"{MID}/path/new/responses/{response}")
        self.assertIn("filter-curve", plan(cabinet, view)["profile"])

    def test_what_comes_back_of_the_space_is_in_the_profile(self):
        measures = measure(breakwater().stack, loader({}), ENGINE)
        self.assertIn("space-spectrum is-selected", profile(measures, View(selected="space")))
        self.assertIn("space-spectrum", profile(measures, View(selected="bus")))
        dry = measure(slipway().stack, loader({}), ENGINE)
        self.assertNotIn("space-spectrum", profile(dry, View(selected="bus")))


if __name__ == "__main__":
    unittest.main()
