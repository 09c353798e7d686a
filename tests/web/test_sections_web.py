"""Sections over HTTP: where an edit goes, what is drawn, what is marked; and an edit that is heard first."""

import json
import threading
from unittest.mock import patch

import numpy as np

from apilado.actions import hearing, stacks
from apilado.actions.hearing import OVER_S
from apilado.core.document.edits_values import SetValue
from apilado.core.render.stretch import NotAtOnce
from apilado.errors import Overtaken, StorageFault
from tests.web.case import WebCase


class SectionsWebTest(WebCase):
    def posted(self, edit, *, section="", whole=False, hears=None, final=True):
        view = {"section": section, "selected": "layer:mid"}
        return {"edit": edit, "whole": whole, "base": self.head().id, "view": view, "hears": hears, "final": final}

    def change(self, edit, *, section="", whole=False, status=200):
        answer = self.client.post(
            f"/stacks/{self.stack_id}/edits", json=self.posted(edit, section=section, whole=whole)
        )
        self.assertEqual(answer.status_code, status, answer.text)
        return answer.json()

    def answer(self, part, **query):
        found = self.client.get(f"/stacks/{self.stack_id}/{part}", params=query)
        self.assertEqual(found.status_code, 200, found.text[:300])
        return found

    def heard(self, edit, place, length, *, final=True):
        posted = self.posted(edit, hears={"place": place, "length": length}, final=final)
        return parts_of(self.client.post(f"/stacks/{self.stack_id}/edits", json=posted).content)

    def made(self):
        """A section of bar 2 of Slipway, and its id."""
        answer = self.change({"op": "section", "first_bar": 2, "last_bar": 2})
        return answer, answer["select"].partition(":")[2]

    def test_a_change_goes_into_the_chosen_section(self):
        made, own = self.made()
        self.assertEqual(made["select"], f"section:{own}")
        answer = self.change({"op": "set", "path": "layers/mid/level_db", "value": -20.0}, section=own)
        self.assertEqual(answer["values"] or "drawn anew", "drawn anew")
        self.assertEqual(answer["section"], {"name": "section 1", "bars": "bar 2"})
        self.assertEqual(answer["undo"], "In section 1: level of mid: −20 dB")
        stack = self.head().stack
        self.assertNotEqual(stack.layer("mid").level_db, -20.0)
        self.assertEqual([c.path for c in stack.sections[0].changes], ["layers/mid/level_db"])
        # What is typed on is a value of the field that is shown.
        again = self.change({"op": "set", "path": "layers/mid/level_db", "value": -21.0}, section=own)
        self.assertEqual(again["values"].get("layers/mid/level_db"), "-21")
        whole = self.change({"op": "set", "path": "layers/mid/level_db", "value": -9.0}, section=own, whole=True)
        self.assertEqual(self.head().stack.layer("mid").level_db, -9.0)
        self.assertEqual(whole["undo"], "Level of mid: −9 dB")

    def test_sheet_and_rows_show_the_values_there_and_mark_them(self):
        _, own = self.made()
        self.change({"op": "set", "path": "layers/mid/level_db", "value": -20.0}, section=own)
        self.change({"op": "set", "path": "layers/mid/mute", "value": True}, section=own)
        here = self.answer("sheet", selected="layer:mid", opened="*", section=own).text
        self.assertIn('value="-20"', here)
        self.assertIn("as-whole", here)
        there = self.answer("sheet", selected="layer:mid", opened="*").text
        self.assertNotIn("as-whole", there)
        self.assertIn("≠ section 1", there)
        self.assertIn("is-otherwise", self.answer("layers", section=own).text)
        listed = self.answer("sheet", selected=f"section:{own}", section=own).text
        for words in ("level of mid: −20 dB — as the whole", "Sub alone", "mid in", "Build up"):
            self.assertIn(words, listed)
        self.assertIn("Tempo", self.answer("sheet", selected="section:gone").text)

    def test_an_edit_for_a_section_that_has_gone_is_refused(self):
        _, own = self.made()
        self.change({"op": "remove", "path": f"sections/{own}"}, section=own)
        before = self.head().id
        refused = self.change({"op": "set", "path": "layers/mid/mute", "value": True}, section=own, status=422)
        self.assertIn("section is not there any more", refused["error"])
        self.assertEqual(self.head().id, before)

    def test_a_page_that_plays_gets_a_stretch_first(self):
        length = self.loop()[0].shape[1]
        for place in (0, length - 2000):
            edit = {"op": "set", "path": "layers/high/mute", "value": place == 0}
            self.workspace.paces.clear()  # however slow the machine is, none was slow to come yet
            (first, _), (head, content), (answer, _) = self.heard(edit, place, length)
            self.assertEqual([first["kept"], head["revision"]], 2 * [answer["answer"]["revision"]])
            self.assertTrue(answer["answer"]["plan"])
            stretch, after = np.frombuffer(content, "<f4").reshape(2, -1), self.loop()[0]
            index = (head["begins"] + np.arange(stretch.shape[1])) % length
            self.assertLess(float(np.abs(stretch - after[:, index]).max()), 0.03 * float(np.abs(after).max()))
        # Where the last was slow to come it comes in two pieces, that of a hand that still moves as a whole.
        self.workspace.paces.update({(self.stack_id, "first"): 0.06, (self.stack_id, "next"): 0.03})
        for final, mores in ((True, [True, False]), (False, [False])):
            edit = {"op": "set", "path": "layers/high/level_db", "value": -7.0 - final}
            _, *pieces, _ = self.heard(edit, 3000, length, final=final)
            self.assertEqual([head["more"] for head, _ in pieces], mores)
            after, ends = self.loop()[0], pieces[0][0]["begins"]
            for head, content in pieces:
                self.assertEqual(ends - head["begins"], 0 if head is pieces[0][0] else round(OVER_S * head["rate"]))
                stretch, ends = np.frombuffer(content, "<f4").reshape(2, -1), head["begins"] + head["frames"]
                there = after[:, (head["begins"] + np.arange(head["frames"])) % length]
                self.assertLess(float(np.abs(stretch - there).max()), 0.03 * float(np.abs(after).max()))
        # Of what can only be made as a whole, or of another length, there is no stretch: the loop is waited for.
        with patch("apilado.actions.hearing.stretch_of", side_effect=NotAtOnce("it is stretched")):
            first, second = self.heard({"op": "set", "path": "layers/high/level_db", "value": -9.0}, 0, length)
        self.assertEqual(("kept" in first[0], "answer" in second[0]), (True, True))
        first, second = self.heard({"op": "set", "path": "tempo_bpm", "value": 100.0}, 0, length)
        self.assertEqual(("kept" in first[0], "answer" in second[0]), (True, True))

    def test_what_a_newer_edit_of_the_page_has_overtaken_is_not_drawn(self):
        length = self.loop()[0].shape[1]
        with patch("apilado.web.routes.bench.hear_stretch", overtaken):
            first, (answer, _) = self.heard({"op": "set", "path": "layers/high/mute", "value": True}, 0, length)
        self.assertIn("kept", first[0])
        self.assertIsNone(answer["answer"]["plan"])
        self.assertEqual(answer["answer"]["values"], {"layers/high/mute": "True"})

    def test_what_was_overtaken_is_answered_behind_the_sound_of_the_newest(self):
        length = self.loop()[0].shape[1]
        with (
            patch("apilado.web.routes.bench.hear_stretch", overtaken),
            patch.object(self.workspace, "let_by") as let_by,
        ):
            self.heard({"op": "set", "path": "layers/high/mute", "value": True}, 0, length)
        let_by.assert_called_once()

        newest, through = self.workspace.comes(self.stack_id, "own"), threading.Event()
        with patch("apilado.actions.workspace.LET_BY_S", 60.0):
            waiting = threading.Thread(target=lambda: (self.workspace.let_by(self.stack_id, "own"), through.set()))
            waiting.start()
            self.workspace.let_by(self.stack_id, "other")  # of that page nothing has come
            self.assertFalse(through.is_set())
            newest.set()
            waiting.join(60.0)
        self.assertTrue(through.is_set())

    def test_an_edit_is_rendered_while_it_is_being_kept_and_heard_as_it_was_kept(self):
        length, keep, rendered = self.loop()[0].shape[1], self.workspace.stacks.append, threading.Event()
        goes_on, begun = hearing.hear_stretch, []

        def first_heard(workspace, stack_id, stack, *given, **named):
            begun.append(stack)
            for found in goes_on(workspace, stack_id, stack, *given, **named):
                rendered.set()
                yield found

        def slow(*given, **named):
            self.assertTrue(rendered.wait(60.0), "nothing was rendered before the disk had it")
            return keep(*given, **named)

        def beaten(*given, **named):
            """Another page is quicker, once."""
            with patch.object(self.workspace.stacks, "append", keep):
                stacks.edit(self.workspace, self.stack_id, SetValue(path="layers/mid/level_db", value=-30.0))
            appending.side_effect = keep
            return keep(*given, **named)

        with (
            patch("apilado.web.routes.bench.hear_stretch", first_heard),
            patch.object(self.workspace.stacks, "append", side_effect=slow) as appending,
        ):
            kept, (sound, _), *_ = self.heard({"op": "set", "path": "layers/high/level_db", "value": -9.0}, 0, length)
            self.assertEqual((kept[0]["kept"], sound["revision"]), (self.head().id,) * 2)
            appending.side_effect = beaten
            _, (sound, content), *_ = self.heard({"op": "set", "path": "layers/sub/level_db", "value": -9.0}, 0, length)
            self.assertEqual([each.layer("mid").level_db == -30.0 for each in begun], [False, False, True])
            now, content = self.loop()[0], np.frombuffer(content, "<f4").reshape(2, -1)
            there = now[:, (sound["begins"] + np.arange(sound["frames"])) % length]
            self.assertLess(float(np.abs(content - there).max()), 0.03 * float(np.abs(now).max()))
            # What the disk does not take is told, and nothing of it is heard.
            appending.side_effect = StorageFault("full")
            posted = self.posted(
                {"op": "set", "path": "layers/sub/mute", "value": True}, hears={"place": 0, "length": length}
            )
            self.assertEqual(self.client.post(f"/stacks/{self.stack_id}/edits", json=posted).status_code, 507)

    def test_where_a_hand_lets_go_ends_what_is_rendered_of_its_way_before_the_edit_is_done(self):
        tokens = [self.workspace.newest("stretch", self.stack_id, page) for page in ("own", "other")]
        does, ended = stacks.edit, []

        def watched(*given, **named):
            ended.append([over(token) for token in tokens])
            return does(*given, **named)

        with patch("apilado.web.routes.bench.stacks.edit", side_effect=watched):
            for final in (False, True):
                posted = self.posted({"op": "set", "path": "layers/mid/mute", "value": final})
                answer = self.client.post(
                    f"/stacks/{self.stack_id}/edits", json={**posted, "client": "own", "final": final}
                )
                self.assertEqual(answer.status_code, 200, answer.text)
        self.assertEqual(ended, [[False, False], [True, False]])

    def test_a_further_stretch_gives_way_to_that_of_an_edit_and_not_the_other_way_round(self):
        length, ended = self.loop()[0].shape[1], []
        for further in (True, False):
            tokens = [self.workspace.newest(each, self.stack_id, "own") for each in ("stretch", "further")]
            asked = {"client": "own", "place": 0, "length": length, "further": further}
            self.assertEqual(self.client.post(f"/stacks/{self.stack_id}/stretch", json=asked).status_code, 200)
            ended.append([over(token) for token in tokens])
        self.assertEqual(ended, [[False, True], [True, True]])

    def test_a_page_that_has_a_loop_gets_what_has_changed(self):
        def asked(known, slot="own"):
            posted = {"client": "p", "slot": slot, "known": known}
            return self.client.post(f"/stacks/{self.stack_id}/loop", json=posted)

        first = asked(0)
        self.assertGreater(len(first.headers["X-Blocks"].split(",")), 2)
        number = int(first.headers["X-Number"])
        other = asked(number, "held")  # another of the sounds that it holds: nothing of that is there
        self.assertEqual(other.headers["X-Blocks"], first.headers["X-Blocks"])
        again = asked(number)
        self.assertEqual((again.headers["X-Blocks"], again.content), ("", b""))


def overtaken(*given, **named):
    """A stretch that something newer has overtaken."""
    raise Overtaken("newer")
    yield


def over(token):
    """Whether a render has been overtaken."""
    try:
        token.check()
    except Overtaken:
        return True
    return False


def parts_of(body):
    found = []
    while body:
        size = int.from_bytes(body[:4], "little")
        head = json.loads(body[4 : 4 + size])
        found.append((head, body[4 + size : 4 + size + head["bytes"]]))
        body = body[4 + size + head["bytes"] :]
    return found
