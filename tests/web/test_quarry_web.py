"""The Quarry and its jobs, as pages ask for them."""

import json

from apilado.actions.quarry import measure_waiting
from apilado.store.sounds import Filters
from tests.support import sine, wav
from tests.web.case import Structure, WebCase


class QuarryCase(WebCase):
    def setUp(self):
        super().setUp()
        self.client.app.state.surveyor.wake = lambda: None  # the tests say when something is measured

    def bring(self, name, content, status=200):
        answer = self.client.post("/quarry/import", files={"file": (name, content)})
        self.assertEqual(answer.status_code, status, answer.text)
        return answer.json()

    def job(self, kind, status=200, **wanted):
        posted = {"kind": kind, "wanted": wanted}
        answer = self.client.post(f"/stacks/{self.stack_id}/jobs", json=posted)
        self.assertEqual(answer.status_code, status, answer.text)
        if status != 200:
            return answer.json()["error"]
        self.client.app.state.jobs.wait(answer.json()["id"])
        return self.client.get(f"/jobs/{answer.json()['id']}").json()

    def rows(self, **query):
        text = self.client.get("/quarry/list", params=query).text
        return [int(a["data-sound"]) for _, a in Structure(text).tags if "data-sound" in a], text

    def names(self):
        return [entry.name for entry in self.workspace.sounds.found(Filters()).entries]


class ListTest(QuarryCase):
    def test_what_is_brought_is_found(self):
        before = self.rows()[0]
        content = wav(sine(55.0, 1.0))
        brought = self.bring("quay hum.wav", content)
        self.assertEqual((brought["name"], brought["new"]), ("quay hum", True))
        self.assertEqual(self.bring("again.wav", content)["new"], False)
        found, text = self.rows(words="hum")
        self.assertEqual(found, [brought["id"]])
        self.assertEqual(len(self.rows()[0]), len(before) + 1)
        self.assertIn("1 sound<", text)
        self.assertIn("Nothing is like that", self.rows(words="nobody")[1])
        self.assertEqual(self.rows(words="hum", length="0.5-2")[0], [])  # it is not measured yet
        measure_waiting(self.workspace)
        self.assertEqual(self.rows(words="hum", length="0.5-2", pitch="54-56")[0], [brought["id"]])
        self.assertEqual(self.rows(words="hum", pitch="60-")[0], [])
        refused = self.client.get("/quarry/list", params={"length": "long"})
        self.assertEqual((refused.status_code, "is no range" in refused.json()["error"]), (422, True))

    def test_a_broken_file_is_refused_by_name(self):
        answer = self.bring("broken.wav", b"RIFF0000WAVE", status=422)
        self.assertIn("'broken.wav'", answer["error"])
        self.bring("notes.txt", b"x", status=422)
        self.assertNotIn("broken", self.names())

    def test_the_chosen_one_tells_what_it_is(self):
        content = wav(sine(55.0, 1.0))
        brought = self.bring("quay hum.wav", content)
        here = f"/quarry/{brought['id']}"
        self.assertIn("is being measured", self.client.get(here).text)
        measure_waiting(self.workspace)
        text = self.client.get(here).text
        for said in ("A1", "55.0 Hz", "1.00 s", "LUFS", "nothing", "Begin a stack with it"):
            self.assertIn(said, text)
        self.assertIn("Put into Slipway", self.client.get(f"{here}?stack={self.stack_id}").text)
        self.assertEqual(self.client.get(f"{here}/sound").content, content)
        part = self.client.get(f"{here}/sound", headers={"Range": "bytes=0-3"})
        self.assertEqual((part.status_code, part.content), (206, b"RIFF"))
        self.assertEqual(self.client.get("/quarry/999").status_code, 404)

    def test_it_is_changed_removed_put_back_and_cleared(self):
        brought = self.bring("quay hum.wav", wav(sine(55.0, 1.0)))
        here = f"/quarry/{brought['id']}"
        changed = {"name": "sub", "tags": "low Good", "key": "A minor", "tempo_bpm": 90, "pinned": True}
        told = self.client.post(here, json=changed).json()
        self.assertEqual((told["name"], told["tags"], told["pinned"]), ("sub", "low good", True))
        self.assertEqual(self.rows(pinned="true", tag="good", key="A minor", tempo="80-100")[0], [brought["id"]])
        for bad, said in (({"key": "H minor"}, "none of C minor"), ({"name": " "}, "needs a name")):
            refused = self.client.post(here, json=bad)
            self.assertEqual((refused.status_code, said in refused.json()["error"]), (422, True))
        self.assertIn("nothing to clear", self.client.get("/quarry/clearing").text)
        self.client.post(f"{here}/remove")
        self.assertEqual(self.rows(words="sub")[0], [])
        self.client.post(f"{here}/put-back")
        self.assertEqual(self.rows(words="sub")[0], [brought["id"]])
        self.client.post(f"{here}/remove")
        self.assertIn("1 file, 0.4 MiB", self.client.get("/quarry/clearing").text)
        self.assertIn("1 file, 0.4 MiB cleared", self.client.post("/quarry/clear").text)
        self.assertEqual(self.client.post(f"{here}/put-back").status_code, 404)

    def test_an_empty_quarry_says_what_can_be_done(self):
        text = self.client.get("/quarry").text
        self.assertIn("<h1", text)
        for entry in self.workspace.sounds.found(Filters()).entries:
            with self.workspace.database.transaction() as connection:
                connection.execute("UPDATE sounds SET removed_at = 'x' WHERE id = ?", (entry.id,))
        self.assertIn("Nothing here yet. Bring files", self.client.get("/quarry/list").text)

    def test_a_stack_begins_with_it(self):
        brought = self.bring("quay hum.wav", wav(sine(55.0, 2.0)))
        told = self.client.post(f"/quarry/{brought['id']}/begin").json()
        stack = self.workspace.stacks.head(int(told["url"].split("/")[-1])).stack
        self.assertEqual([layer.name for layer in stack.layers], ["sub", "mid", "high"])


class PutInTest(QuarryCase):
    def test_it_is_one_undoable_edit_told_in_words(self):
        brought = self.bring("hum.wav", wav(sine(55.0, 2.0)))
        self.client.post(f"/quarry/{brought['id']}", json={"tempo_bpm": 100})
        before = self.head().stack
        form = {"sound": brought["id"], "how": "reversed", "client": "t"}
        told = self.client.post(f"/stacks/{self.stack_id}/put-in", data=form).json()
        layer = self.head().stack.layer(told["select"].removeprefix("layer:"))
        self.assertEqual((layer.name, layer.source.backwards), ("hum", True))
        self.assertIn("stretched from 100 to 126 bpm", told["told"])
        self.assertEqual(self.head().undo_title, "Put in hum")
        self.assertEqual(self.workspace.stacks.undo(self.stack_id).revision.stack, before)
        refused = self.client.post(f"/stacks/{self.stack_id}/put-in", data={**form, "how": "melted"})
        self.assertIn("is put in as one of laid", refused.json()["error"])

    def test_the_drawer_lets_hear_it_alone_in_the_loop(self):
        self.bring("hum.wav", wav(sine(55.0, 2.0)))
        text = self.client.get(f"/stacks/{self.stack_id}/quarry").text
        row = next(a for _, a in Structure(text).tags if "data-hear" in a)
        heard = {"trial": json.loads(row["data-hear"]), "alone": [row["data-hear-only"]]}
        audio, _ = self.loop(**heard)
        plain, _ = self.loop()
        self.assertGreater(abs(audio).max(), 0.05)
        self.assertGreater(abs(audio - plain).max(), 0.05)
        self.assertEqual(self.hearing(**heard)[:2], ["this stack", "only hum"])
        self.assertEqual(self.hearing(trial=heard["trial"])[1], "with ‘Put in hum’ as if it were done")
        self.assertEqual(self.head().undo_title, None, "it is only heard")


class JobsWebTest(QuarryCase):
    def test_a_bounce_from_its_form(self):
        form = self.client.get(
            f"/stacks/{self.stack_id}/bounce", params={"layer": "mid", "first_bar": 2, "last_bar": 3}
        ).text
        self.assertIn('value="layer:mid" selected', form)
        self.assertIn('name="first_bar" min="1" max="4" value="2"', form)
        bounced = {"what": "layers", "layers": ["mid"], "first_bar": 2, "last_bar": 3}
        done = self.job("bounce", bounced=bounced, name="hull", then="laid")
        self.assertEqual((done["state"], self.names()[0]), ("done", "hull"))
        self.assertEqual(self.head().stack.layer(done["made"]["layer"]).source.start_beats, 4.0)
        self.assertIn("bars 2 to 3", self.client.get(f"/quarry/{done['made']['sound']}").text)

    def test_what_cannot_be_begun(self):
        for kind, wanted, said in (
            ("melt", {}, "a job is one of bounce"),
            ("bounce", {"bounced": {"first_bar": 70}}, "not valid"),
            ("bounce", {"bounced": {"layers": ["nobody"]}}, "no layer 'nobody'"),
            ("freeze", {"layer": "nobody"}, "no layer 'nobody'"),
            ("multisample", {"options": {"lowest": 60, "highest": 20}}, "runs upwards"),
        ):
            with self.subTest(said):
                self.assertIn(said.lower(), self.job(kind, status=422, **wanted).lower())
        self.assertEqual(self.client.get("/jobs/99").status_code, 404)

    def test_freezing_is_shown_and_thaws_with_a_word(self):
        self.assertEqual(self.job("freeze", layer="mid")["state"], "done")
        sheet = self.client.get(f"/stacks/{self.stack_id}/sheet?selected=layer:mid&opened=*").text
        self.assertIn("Frozen at 48000 Hz", sheet)
        self.assertIn("Thaw", sheet)
        self.assertIn("is-frozen", self.client.get(f"/stacks/{self.stack_id}/layers").text)
        # Its sheet and its drawings are there without what is not rendered.
        asked = {"client": "t", "view": {"selected": "layer:mid", "open": "layers/mid/source"}}
        self.assertEqual(self.client.post(f"/stacks/{self.stack_id}/drawings", json=asked).status_code, 200)
        told = self.edit({"op": "set", "path": "layers/mid/transpose", "value": 3})
        self.assertIn("‘mid’ is thawed", told["notice"])
        self.assertTrue(told["controls"])

    def test_those_of_a_stack(self):
        head = self.head()
        number = self.workspace.jobs.begin("bounce", self.stack_id, head.id, head.stack, "Bounce bass", {})
        self.workspace.jobs.end(number, "broken off", "The program ended.")
        told = self.client.get(f"/stacks/{self.stack_id}/jobs").json()["jobs"]
        self.assertEqual([(job["title"], job["state"]) for job in told], [("Bounce bass", "broken off")])
        again = self.client.post(f"/jobs/{number}/again").json()
        self.client.app.state.jobs.wait(again["id"])
        self.assertEqual(self.client.get(f"/stacks/{self.stack_id}/jobs").json()["jobs"], [])

    def test_the_instrument_of_a_delivery(self):
        here = f"/stacks/{self.stack_id}"
        form = {
            "every": "5",
            "lowest": "C1",
            "highest": "C2",
            "held_s": "0.3",
            "velocities": "1",
            "turns": "1",
            "bits": "16",
        }
        form |= {"rate_hz": "48000", "layer": "sub", "loops": "on"}
        drawn = self.client.get(f"{here}/deliver/keys", params=form).text
        self.assertIn("3 samples and an SFZ file", drawn)
        self.assertIn("runs upwards", self.client.get(f"{here}/deliver/keys", params={**form, "highest": "C0"}).text)
        self.assertIn("is-fault", self.client.get(f"{here}/deliver/keys", params={**form, "lowest": "H7"}).text)
        job = self.client.post(f"{here}/instrument", data=form).json()
        self.client.app.state.jobs.wait(job["id"])
        self.assertIn("3 samples and an SFZ file are written", self.client.get(f"{here}/deliveries").text)
        self.assertTrue(self.client.get(f"/deliveries/{job['id']}/file").content.startswith(b"PK"))
        self.assertIn('name="every" value="5"', self.client.get(f"{here}/deliver").text)


class PartsWebTest(QuarryCase):
    def keep(self, kind, address, status=200):
        posted = {"kind": kind, "address": address}
        answer = self.client.post(f"/stacks/{self.stack_id}/keep-part", json=posted)
        self.assertEqual(answer.status_code, status, answer.text)
        return answer.json()

    def parts(self, **query):
        text = self.client.get("/parts", params=query).text
        return [int(a["data-part"]) for _, a in Structure(text).tags if "data-part" in a], text

    def test_every_kind_is_kept_drawn_found_and_put_in(self):
        self.edit({"op": "add-movement", "path": "layers/mid/level_db"})
        movement = self.head().stack.movements[-1].id
        eq = next(iter(self.head().stack.eqs_of("layers/mid")))
        kept = [
            self.keep("layer", "layers/high")["id"],
            self.keep("chain", "layers/mid")["id"],
            self.keep("eq", eq)["id"],
            self.keep("duck", "duckers/duck")["id"],
            self.keep("movement", f"movements/{movement}")["id"],
        ]
        found, text = self.parts()
        self.assertEqual(found, kept[::-1])
        self.assertEqual(text.count("spectrum-row"), 5)
        self.assertEqual(self.parts(words="layer high")[0], kept[:1])
        self.assertIn("No parts yet", self.parts(words="nobody")[1])
        for number in kept:
            before = self.head().stack
            posted = {"part": number, "to": "layers/mid", "client": "t"}
            told = self.client.post(f"/stacks/{self.stack_id}/put-part", json=posted).json()
            self.assertNotEqual(self.head().stack, before, told)
            self.assertTrue(self.head().undo_title.startswith("Put in"), told)
            self.assertEqual(self.workspace.stacks.undo(self.stack_id).revision.stack, before)
        refused = self.client.post(f"/stacks/{self.stack_id}/put-part", json={"part": kept[1], "to": "kick"})
        self.assertEqual(
            (refused.status_code, "choose a layer or a bus" in refused.json()["error"].lower()), (422, True)
        )
        self.assertIn("what is kept is one of", self.keep("soup", "bus", status=422)["error"].lower())

    def test_renamed_removed_and_put_back(self):
        number = self.keep("layer", "layers/mid")["id"]
        self.assertEqual(self.client.post(f"/parts/{number}", json={"name": " hull "}).json(), {"name": "hull"})
        self.assertEqual(self.client.post(f"/parts/{number}", json={"name": " "}).status_code, 422)
        self.client.post(f"/parts/{number}/remove")
        self.assertEqual(self.parts()[0], [])
        self.client.post(f"/parts/{number}/put-back")
        self.assertEqual(self.parts(words="hull")[0], [number])
        self.assertEqual(self.client.post("/parts/99/remove").status_code, 404)

    def test_what_it_plays_stays_with_it(self):
        brought = self.bring("hum.wav", wav(sine(55.0, 1.0)))
        form = {"sound": brought["id"], "how": "laid", "client": "t"}
        layer = self.client.post(f"/stacks/{self.stack_id}/put-in", data=form).json()["select"].removeprefix("layer:")
        number = self.keep("layer", f"layers/{layer}")["id"]
        with self.workspace.database.transaction() as connection:
            connection.execute("DELETE FROM revision_sounds")
        refused = self.client.post(f"/quarry/{brought['id']}/remove")
        self.assertEqual((refused.status_code, "is used" in refused.json()["error"]), (422, True))
        self.client.post(f"/parts/{number}/remove")
        self.assertEqual(self.client.post(f"/quarry/{brought['id']}/remove").status_code, 200)
