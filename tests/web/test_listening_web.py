"""What a page hears, told and compared; and that nothing of it goes anywhere else."""

import io
import json
import zipfile

import numpy as np
import pyloudnorm

from apilado.actions import stacks
from apilado.actions.delivery import rendered_files
from apilado.actions.delivery_plan import DeliveryOptions
from apilado.actions.hearing import (
    FIRST_S,
    FOLLOWS,
    LEFT_S,
    LONGEST_S,
    OVER_S,
    QUICK_S,
    SHORTEST_S,
    SOON_S,
    first_piece_for,
    length_for,
    second_piece_for,
)
from apilado.core.document.edits import apply
from apilado.core.document.edits_values import SetValue
from apilado.core.render.audition import Audition
from apilado.core.render.elsewhere import PLACES
from apilado.core.render.graph import clock_of
from apilado.core.render.listening import listened
from tests.support import noise, rendered, wav
from tests.web.case import Structure, WebCase


def rounds_loudness(audio, rate):
    return pyloudnorm.Meter(rate).integrated_loudness(np.tile(audio, 16).T.astype(np.float64))


class HearingTest(WebCase):
    def test_the_line_tells_what_is_heard(self):
        clip = "layers/mid/path/clip"
        for heard, words in (
            ({}, ["this stack", "the whole", "here"]),
            ({"alone": ["layers/sub", "kick"]}, ["this stack", "only sub, kick", "through the bus", "here"]),
            ({"alone": ["layers/sub"], "dry": True}, ["this stack", "only sub", "before the bus", "here"]),
            ({"without": clip, "place": "phone"}, ["this stack", "without soft clip 1 of mid", "on the phone"]),
            ({"only": clip, "place": "mono"}, ["this stack", "only what soft clip 1 of mid makes", "in mono"]),
            ({"overdo": "duckers/duck"}, ["this stack", "Duck overdone", "here"]),
            (
                {"trial": {"op": "set", "path": "layers/mid/level_db", "value": -3}},
                ["this stack", "with ‘Level of mid: −3 dB’ as if it were done", "here"],
            ),
            ({"without": "layers/gone"}, ["this stack", "without what has gone", "here"]),
            ({"trial": {"op": "set", "path": "layers/mid/level_db", "value": 99}}, None),
        ):
            with self.subTest(heard=heard):
                found = self.hearing(**heard)
                if words is None:
                    self.assertIn("a change that does not fit", found[1])
                else:
                    self.assertEqual(found, words)
        answer = self.client.post(f"/stacks/{self.stack_id}/hearing", json={"heard": {"place": "moon"}})
        self.assertEqual(answer.status_code, 404)
        self.assertIn("no place called 'moon'", answer.json()["error"])

    def test_elsewhere_shows_every_place_and_every_layer(self):
        text = self.client.get(f"/stacks/{self.stack_id}/elsewhere?client=a").text
        tags = Structure(text).tags
        self.assertEqual([a["data-go-to"] for _, a in tags if "data-go-to" in a], [place.key for place in PLACES])
        self.assertEqual(sum("dimension" in a.get("class", "") for _, a in tags), len(PLACES) * 4)
        self.assertGreater(sum("slab-lost" in a.get("class", "") for _, a in tags), len(PLACES))
        self.edit(
            {
                "op": "several",
                "name": "silence",
                "edits": [
                    {"op": "set", "path": f"layers/{name}/mute", "value": True} for name in ("sub", "mid", "high")
                ],
            }
        )
        self.assertIn("Nothing sounds", self.client.get(f"/stacks/{self.stack_id}/elsewhere").text)


class EqualLoudnessTest(WebCase):
    def test_what_is_compared_is_as_loud_as_the_other_and_nothing_is_turned_up(self):
        rate = self.head().stack.sample_rate
        ways = [{}, {"place": "phone"}, {"place": "club"}, {"without": "layers/sub"}]
        played = []
        for heard in ways:
            audio, headers = self.loop(against=[each for each in ways if each != heard], **heard)
            levels = json.loads(headers["x-levels"])
            matches = levels["matches"]
            self.assertEqual([matched for _, matched in matches], [True] * 4)
            self.assertTrue(all(gain <= 0.0 for gain, _ in matches))
            self.assertAlmostEqual(levels["loudness"], rounds_loudness(audio, rate), delta=0.1)
            played.append(rounds_loudness(audio * 10.0 ** (matches[0][0] / 20.0), rate))
        self.assertLess(max(played) - min(played), 0.1)

    def test_what_is_silent_or_has_gone_is_told_to_be_unmatched(self):
        self.edit({"op": "set", "path": "layers/high/mute", "value": True})
        _, headers = self.loop(against=[{"alone": ["layers/high"]}, {"without": "layers/gone"}, {"cast": 9}])
        self.assertEqual(json.loads(headers["x-levels"])["matches"], [[0.0, False]] * 4)


class CastTest(WebCase):
    def post(self, path, status=200, **data):
        answer = self.client.post(f"/stacks/{self.stack_id}/{path}", json=data)
        self.assertEqual(answer.status_code, status, answer.text)
        return answer.json()

    def casts(self, opened=0):
        return self.client.get(f"/stacks/{self.stack_id}/casts?opened={opened}").text

    def test_a_cast_is_heard_as_it_was_beside_the_stack_as_it_is(self):
        before = self.head().stack
        kept = self.post("casts")
        self.assertEqual(kept["name"], "Cast 1")
        self.edit({"op": "set", "path": "layers/mid/level_db", "value": -30.0})
        audio, _ = self.loop(cast=kept["id"])
        np.testing.assert_array_equal(audio, rendered(before)["output"])
        self.assertEqual(self.hearing(cast=kept["id"])[0], "‘Cast 1’")
        self.loop(cast=kept["id"] + 1, status=404)
        # At the rate that the stack has now, so that both are played side by side.
        self.edit({"op": "set", "path": "sample_rate", "value": 44100})
        self.assertEqual(self.loop(cast=kept["id"])[1]["x-rate"], "44100")

    def test_names_and_judgements(self):
        first, second = self.post("casts"), self.post("casts", name="  warm \n one ")
        self.assertEqual([first["name"], second["name"]], ["Cast 1", "warm one"])
        self.post(f"casts/{first['id']}", name="thin", judgement="too thin on the phone")
        text = self.casts()
        self.assertIn('value="thin"', text)
        self.assertIn('value="too thin on the phone"', text)
        self.assertIn("needs a name", self.post(f"casts/{first['id']}", 422, name=" ")["error"])
        self.assertIn("at most 60", self.post(f"casts/{first['id']}", 422, name="x" * 61)["error"])
        self.assertIn("at most 200", self.post(f"casts/{first['id']}", 422, judgement="x" * 201)["error"])
        self.post("casts/999", 404, name="a")
        self.post(f"casts/{first['id']}/remove")
        self.assertNotIn("thin", self.casts())
        self.post(f"casts/{first['id']}/put-back")
        self.assertIn('value="thin"', self.casts())

    def test_differences_are_told_heard_and_taken_over(self):
        kept = self.post("casts")
        self.assertIn("as it was then", self.casts(kept["id"]))
        self.edit({"op": "set", "path": "layers/mid/level_db", "value": -30.0})
        self.edit({"op": "remove", "path": "layers/mid/path/eq/points/dip"})
        text = self.casts(kept["id"])
        self.assertIn("Level of mid: −10.5 dB, now −30 dB", text)
        edits = [json.loads(a["data-edit"]) for _, a in Structure(text).tags if "data-edit" in a]
        self.assertEqual([each["op"] for each in edits], ["take-over", "add", "set"])
        heard = [json.loads(a["data-hear"]) for _, a in Structure(text).tags if "data-hear" in a]
        self.assertEqual(heard, edits[1:])
        self.edit(edits[2])
        self.assertEqual(self.head().stack.layer("mid").level_db, -10.5)
        self.edit(edits[0])
        self.assertEqual(self.head().stack, self.workspace.casts.stack(self.stack_id, kept["id"]))
        self.assertEqual(self.head().undo_title, "Take over the whole stack")

    def test_a_cast_becomes_a_stack_of_its_own(self):
        kept = self.post("casts", name="before")
        self.edit({"op": "set", "path": "layers/mid/level_db", "value": -30.0})
        opened = int(self.post(f"casts/{kept['id']}/open")["url"].rsplit("/", 1)[-1])
        head = self.workspace.stacks.head(opened)
        self.assertEqual((head.stack.name, head.stack.layer("mid").level_db), ("Slipway before", -10.5))
        self.post("casts/999/open", 404)

    def test_casts_travel_with_a_copy_and_in_a_bundle(self):
        self.post("casts", name="before")
        content = self.client.get(f"/stacks/{self.stack_id}/export/bundle").content
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            self.assertIn("casts/00.json", archive.namelist())
        for made in (
            stacks.import_stack(self.workspace, content, "a.apilado"),
            stacks.duplicate(self.workspace, self.stack_id),
        ):
            self.assertEqual([each.name for each in self.workspace.casts.listed(made.stack_id)], ["before"])

    def test_a_blind_comparison_is_drawn_and_counted(self):
        begun = self.post("blind")
        self.assertEqual((begun["trials"], begun["said"]), (0, ""))
        answers, told = [], begun
        for number in range(6):
            answers.append(told["second"] if number < 5 else not told["second"])
            told = self.post("blind", seed=begun["seed"], answers=answers)
        self.assertEqual((told["right"], told["trials"]), (5, 6))
        self.assertEqual(told["chance"], 7 / 64)
        self.assertEqual(told["said"], "5 of 6 right. By guessing alone, so many or more come out 11 times in 100.")
        self.post("blind", 404, answers=[True])
        self.post("blind", 422, seed=1, answers=[True] * 101)
        self.assertNotEqual(self.post("blind")["seed"], begun["seed"])


class NowhereElseTest(WebCase):
    """Nothing of what is only listened to goes into measurements, soundings, deliveries, bundles or the document."""

    HEARD = (
        {"alone": ["layers/sub"]},
        {"alone": ["layers/sub"], "dry": True},
        {"point": "layers/mid/path/eq/points/dip"},
        {"only": "layers/mid/path/clip"},
        {"overdo": "duckers/duck"},
        {"without": "layers/mid"},
        {"trial": {"op": "set", "path": "layers/mid/level_db", "value": -40.0}},
        {"place": "phone"},
        {"backing": False},
        {"piece": True},
    )

    def all_that_leaves(self, heard):
        """What is measured, told and handed over, by a page that hears this."""
        posted = {"client": "a", "view": heard}
        drawn = self.client.post(f"/stacks/{self.stack_id}/drawings", json=posted).json()
        plan = self.client.post(f"/stacks/{self.stack_id}/plan", json={"view": heard}).json()
        bundle = self.client.get(f"/stacks/{self.stack_id}/export/bundle").content
        text = self.client.get(f"/stacks/{self.stack_id}/export/json").text
        elsewhere = self.client.get(f"/stacks/{self.stack_id}/elsewhere").text
        return drawn["soundings"], drawn["meter"], drawn["texts"], plan["revision"], bundle, text, elsewhere

    def test_each_kind_is_tried(self):
        fields = {name for heard in self.HEARD for name in heard}
        self.assertEqual(fields | {"section", "cast"}, set(Audition.model_fields))
        audio = self.workspace.assets.add(wav(noise(48000, amplitude=0.1)), "chords.wav").sha256
        self.edit({"op": "add", "path": "backing", "part": {"sound": {"kind": "take", "asset": audio}}})
        self.edit({"op": "set", "path": "reference", "value": {"asset": audio}})
        kept = self.client.post(f"/stacks/{self.stack_id}/casts", json={}).json()["id"]
        whole, before = self.all_that_leaves({}), self.head()
        sound, _ = self.loop()
        for heard in (*self.HEARD, {"cast": kept}):
            with self.subTest(heard=heard):
                found, _ = self.loop(**heard)
                self.assertEqual(np.array_equal(found, sound), "cast" in heard)
                self.assertEqual(self.all_that_leaves(heard), whole)
        self.assertEqual(self.head(), before)
        delivered = self.delivery()
        for heard in self.HEARD:
            self.loop(**heard)
            self.assertEqual(self.delivery(), delivered)

    def delivery(self):
        stack = self.workspace.stacks.head(self.stack_id).stack
        files = rendered_files(stack, self.workspace.load, self.workspace.engine, DeliveryOptions(), lambda *_: None)
        return [(name, hash(content)) for name, content in files]


class SlotsTest(WebCase):
    def test_edits_go_on_from_the_own_loop_and_not_from_what_is_lent(self):
        self.loop()
        own = self.workspace.heard[self.stack_id]
        held = {"client": "t", "slot": "held", "heard": {"without": "layers/mid"}}
        self.assertEqual(self.client.post(f"/stacks/{self.stack_id}/loop", json=held).status_code, 200)
        self.assertIs(self.workspace.heard[self.stack_id], own)

    def test_a_stretch_of_what_is_not_there_is_empty(self):
        asked = {"client": "t", "heard": {"place": "moon"}, "place": 0, "length": self.loop()[0].shape[1]}
        answer = self.client.post(f"/stacks/{self.stack_id}/stretch", json=asked)
        self.assertEqual((answer.status_code, answer.content), (200, b""))

    def test_stems_are_sent_part_by_part(self):
        length = self.loop()[0].shape[1]
        asked = {"client": "t", "place": 100, "length": length}
        content = self.client.post(f"/stacks/{self.stack_id}/stems", json=asked).content
        heads = []
        while content:
            size = int.from_bytes(content[:4], "little")
            heads.append(json.loads(content[4 : 4 + size]))
            content = content[4 + size + heads[-1]["bytes"] :]
        gain, *parts = heads
        self.assertEqual([each["owner"] for each in parts], ["layers/sub", "layers/mid", "layers/high", "kick"])
        self.assertEqual([each["bus"] for each in parts], [True, True, True, False])
        self.assertEqual({each["bytes"] for each in parts}, {8 * gain["frames"]})
        other = {**asked, "length": length + 1}
        self.assertEqual(self.client.post(f"/stacks/{self.stack_id}/stems", json=other).content, b"")


class InAPlaceTest(WebCase):
    def test_an_edit_after_a_place_is_heard_there(self):
        self.loop(place="phone")
        before = self.head().stack
        self.edit({"op": "set", "path": "layers/mid/level_db", "value": -20.0})
        stack = apply(before, SetValue(path="layers/mid/level_db", value=-20.0))
        there = listened(stack, Audition(place="phone"), clock_of(stack, looped=True), self.workspace.load).output
        np.testing.assert_array_equal(self.loop(place="phone")[0], self.workspace.engine.run([there])[0])
        posted = {"client": "t", "heard": {"place": "phone"}, "place": 1000, "length": there_length(stack)}
        answer = self.client.post(f"/stacks/{self.stack_id}/stretch", json=posted)
        size = int.from_bytes(answer.content[:4], "little")
        head = json.loads(answer.content[4 : 4 + size])
        found = np.frombuffer(answer.content[4 + size :], "<f4").reshape(2, -1)
        whole = self.loop(place="phone")[0]
        index = (head["begins"] + np.arange(found.shape[1])) % whole.shape[1]
        self.assertLess(float(np.abs(found - whole[:, index]).max()), 0.03 * float(np.abs(whole).max()))
        further = self.client.post(f"/stacks/{self.stack_id}/stretch", json={**posted, "further": True}).content
        told = json.loads(further[4 : 4 + int.from_bytes(further[:4], "little")])
        seconds = [each["frames"] / each["rate"] for each in (head, told)]
        self.assertAlmostEqual(seconds[0], FIRST_S, delta=1e-4)  # nothing was known of this stack
        self.assertGreaterEqual(seconds[1], FIRST_S - 1e-4)
        own, beside = [(self.stack_id, kind) for kind in ("first", "further")]
        self.workspace.paces[own] = self.workspace.paces[beside] = 0.0
        again = self.client.post(f"/stacks/{self.stack_id}/stretch", json=posted).content
        quick = json.loads(again[4 : 4 + int.from_bytes(again[:4], "little")])
        self.assertAlmostEqual(quick["frames"] / quick["rate"], SHORTEST_S, delta=1e-4)
        self.assertGreater(self.workspace.paces[own], 0.0)
        self.assertEqual(self.workspace.paces[beside], 0.0)
        late = self.client.post(f"/stacks/{self.stack_id}/stretch", json={**posted, "came": 9.0}).content
        long = json.loads(late[4 : 4 + int.from_bytes(late[:4], "little")])
        self.assertAlmostEqual(long["frames"] / long["rate"], LONGEST_S, delta=1e-4)
        refused = self.client.post(f"/stacks/{self.stack_id}/stretch", json={**posted, "came": -1.0})
        self.assertEqual(refused.status_code, 422)

    def test_a_stretch_that_is_slow_to_come_is_longer(self):
        lengths = [length_for(took) for took in (0.0, 0.05, 0.1, 0.2, 0.3, 5.0)]
        self.assertEqual(lengths, sorted(lengths))
        self.assertEqual((lengths[0], lengths[-1], length_for(None)), (SHORTEST_S, LONGEST_S, FIRST_S))
        for took in (0.05, 0.1, 0.2, 0.3, 0.4):
            self.assertGreaterEqual(length_for(took) - took, LEFT_S)
        self.assertGreater(length_for(0.1, 0.4), 0.1 + SOON_S + 0.4)  # until a further one has come
        self.assertEqual((length_for(0.1, 0.01), length_for(0.1, 9.0)), (length_for(0.1), LONGEST_S))

    def test_one_that_is_slow_to_come_comes_in_two_pieces(self):
        for took in (None, QUICK_S, 0.4):  # unknown, quick, or the first would be nearly all of it
            self.assertIsNone(first_piece_for(took))
        for took, following in ((0.05, 0.02), (0.08, 0.05), (0.06, None), (0.15, 0.06)):
            first, following = first_piece_for(took, following), following or FOLLOWS * took
            self.assertLess(first, 0.75 * length_for(took))
            self.assertGreaterEqual(first - OVER_S - took, 2.0 * following)  # the second has come by then
            for further in (None, 0.3):  # which has come before the second ends, asked for when that is there
                both = first + second_piece_for(first, took, further) - OVER_S
                self.assertGreater(both, took + following + SOON_S + (further or 2.0 * took))


def there_length(stack):
    return clock_of(stack, looped=True).frames


class BackingTest(WebCase):
    def bring(self, target, name="chords.wav", status=200):
        files = {"file": (name, wav(noise(48000, amplitude=0.1)), "audio/wav")}
        answer = self.client.post(f"/stacks/{self.stack_id}/audio", data={"target": target}, files=files)
        self.assertEqual(answer.status_code, status, answer.text)
        return answer.json()

    def test_a_track_is_brought_shown_and_replaced(self):
        told = self.bring("backing")
        (track,) = self.head().stack.backing
        self.assertEqual((told["select"], track.name), (f"backing:{track.id}", "chords"))
        owner = f"backing/{track.id}"
        rows = Structure(self.client.get(f"/stacks/{self.stack_id}/layers").text).tags
        self.assertIn(owner, [a.get("data-alone") for _, a in rows])
        self.assertIn(f"{owner}/mute", [a.get("data-path") for _, a in rows])
        sheet = self.client.get(f"/stacks/{self.stack_id}/sheet?selected=backing:{track.id}").text
        for shown in ("Backing: chords", f"{owner}/sound/own_bpm", f"{owner}/counts", "in no stem, delivery"):
            self.assertIn(shown, sheet)
        self.edit({"op": "set", "path": f"{owner}/sound/gain_db", "value": -9})
        self.bring(owner, "drums.wav")
        (track,) = self.head().stack.backing
        self.assertEqual((track.sound.file_name, track.sound.gain_db), ("drums.wav", -9.0))
        drawn = self.client.post(f"/stacks/{self.stack_id}/drawings", json={"client": "a", "view": {}}).json()
        self.assertIn("backing-spectrum", drawn["measured"]["profile"])
        self.assertIn("is-backing", drawn["measured"]["passage"])
        self.assertEqual(self.hearing()[3], "with backing")
        self.assertEqual(self.hearing(backing=False)[3], "without backing")
        self.assertEqual(self.hearing(alone=["layers/mid"])[2:], ["through the bus", "here"])
        self.edit({"op": "set", "path": f"{owner}/counts", "value": True})
        room = self.client.get(f"/stacks/{self.stack_id}/room?client=a").text
        self.assertIn("‘chords’ is backing, and counts here.", room)
        self.edit({"op": "remove", "path": owner})
        self.assertEqual(self.hearing(), ["this stack", "the whole", "here"])

    def test_the_finished_piece_is_told_and_matched(self):
        self.assertIn("no finished piece", self.loop(piece=True, status=404))
        plan = self.client.post(f"/stacks/{self.stack_id}/plan", json={"view": {"piece": True}}).json()
        self.assertEqual(plan["gone"], ["piece"])  # the page lets it go, and hears the stack again
        self.bring("reference", "record.wav")
        self.assertEqual(self.hearing(piece=True)[1], "the finished piece")
        sheet = self.client.get(f"/stacks/{self.stack_id}/sheet?selected=balance").text
        self.assertIn("data-piece", sheet)
        self.assertIn("reference/from_s", sheet)
        audio, headers = self.loop(piece=True, against=[{}])
        self.assertEqual([matched for _, matched in json.loads(headers["x-levels"])["matches"]], [True, True])
        self.assertEqual(audio.shape, self.loop()[0].shape)


class NowTest(WebCase):
    def test_it_is_what_sounds_at_each_moment(self):
        content = self.client.get(f"/stacks/{self.stack_id}/now?client=a").content
        size = int.from_bytes(content[:4], "little")
        head = json.loads(content[4 : 4 + size])
        parts, moments, rows = head["parts"], head["moments"], head["rows"]
        self.assertEqual(parts[:3], ["layers/sub", "layers/mid", "layers/high"])
        self.assertEqual(len(content) - 4 - size, moments * (len(parts) * (rows + 1) + len(head["taken"]) + 2))
        self.assertEqual(head["heights"], sorted(head["heights"], reverse=True))
        self.assertIn("duckers/duck", head["taken"])
        # A bell that is loud in one band shows there, at every moment at which the layer sounds.
        stem = rendered(self.head().stack)["mid"]
        levels = np.frombuffer(content, np.uint8, moments, 4 + size + moments * (rows + 1))
        loud = head["lowest"] + levels / head["steps"]
        power = 10.0 * np.log10(2.0 * np.mean(stem**2))
        self.assertAlmostEqual(float(10.0 * np.log10(np.mean(10.0 ** (loud / 10.0)))), float(power), delta=0.5)
