"""An edit in play: first a stretch of it is heard, then the whole loop."""

import itertools
import time

import numpy as np
from scipy.signal import butter, sosfiltfilt

from apilado.web.routes.sound import PARTS, answer_part
from tests.browser.page import BrowserCase
from tests.browser.test_listening import FADE, RATE, agrees, places_of

LONG_DB = -30.0
RESTS_S = 0.2
"""A hand whose edits are further apart than that may be taken to rest (the page: 0.25 s)."""
HIGH_HZ = 16000.0
TRIES = 6


def highest(audio):
    """The peak over 16 kHz: where a click is and a bass is not."""
    sections = butter(8, HIGH_HZ, "highpass", fs=RATE, output="sos")
    return float(np.abs(sosfiltfilt(sections, audio.astype(np.float64), axis=1)).max())


QUEUE = """
async () => {
  const { EditQueue } = await import("/static/js/edits.js");
  const log = [], held = {};
  const queue = new EditQueue({
    send: (edit, gesture, final, kept) => new Promise((answer, refuse) => {
      log.push(`sent ${edit}`);
      held[edit] = { kept, answer: () => answer(edit), refuse: () => refuse(Object.assign(new Error(), { status: 422 })) };
    }),
    answered: (answer) => log.push(`answered ${answer}`),
    refused: () => log.push("refused"),
    rested: () => log.push("rested"),
  });
  window.queued = { queue, held, log };
}
"""


class QueueTest(BrowserCase):
    """What is posted when, with a server that the test plays."""

    def does(self, page, *steps):
        """What was sent and answered by the time that some steps have been done."""
        page.evaluate("() => { queued.log.length = 0; }")
        for step in steps:
            page.evaluate(f"() => {{ const {{ queue, held }} = queued; {step}; }}")
        return page.evaluate("queued.log")

    def test_the_last_edit_of_a_hand_waits_only_until_the_one_before_is_kept(self):
        page = self.open("/")
        page.evaluate(QUEUE)
        pulled = "queue.push(() => '{}', 'pull', {})"
        self.assertEqual(self.does(page, pulled.format("a", "false")), ["sent a"])
        # While the hand moves each waits for the answer before; of those that wait only the newest is sent.
        self.assertEqual(self.does(page, pulled.format("b", "false"), pulled.format("c", "false")), [])
        self.assertEqual(self.does(page, "held.a.kept()"), [])
        self.assertEqual(self.does(page, "held.a.answer()"), ["answered a", "sent c"])
        self.assertEqual(self.does(page, pulled.format("d", "true")), [])
        self.assertEqual(self.does(page, "held.c.kept()"), ["sent d"])
        self.assertTrue(page.evaluate("queued.queue.busy"))
        # Answers are taken in the order of the edits, whichever comes first.
        self.assertEqual(self.does(page, "held.d.answer()"), [])
        self.assertEqual(self.does(page, "held.c.answer()"), ["answered c", "answered d"])
        self.assertFalse(page.evaluate("queued.queue.busy"))
        self.assertEqual(self.does(page, pulled.format("d", "true")), ["rested"])

    def test_a_refusal_takes_with_it_what_the_same_hand_still_does(self):
        page = self.open("/")
        page.evaluate(QUEUE)
        sent = self.does(page, "queue.push(() => 'a', 'pull', false)", "queue.push(() => 'b', 'pull', true)")
        self.assertEqual(sent, ["sent a"])
        self.assertEqual(self.does(page, "queue.push(() => 'c')", "held.a.refuse()"), ["refused", "sent c"])
        self.assertEqual(self.does(page, "held.c.answer()"), ["answered c"])
        self.assertFalse(page.evaluate("queued.queue.busy"))


PLAYED = """
async (sounds) => {
  const context = new OfflineAudioContext(2, 16000, 48000);
  await context.audioWorklet.addModule("/static/js/loop-processor.js");
  const node = new AudioWorkletNode(context, "apilado-loop", { numberOfInputs: 0, outputChannelCount: [2] });
  node.connect(context.destination);
  for (const [at, level, edition, frames, begins] of sounds) context.suspend(at / 48000).then(() => {
    const side = new Float32Array(frames).fill(level);
    const sound = { blocks: [{ left: side, right: side }], size: frames, frames, slot: "own", gain: 1, revision: edition, edition };
    node.port.postMessage({ order: "load", loop: begins === null ? sound : { ...sound, begins, length: 20000 } });
    if (at === 128) node.port.postMessage({ order: "play" });
    setTimeout(() => context.resume(), 100); // the audio thread takes its messages first
  });
  return Array.from((await context.startRendering()).getChannelData(0));
}
"""
LENGTH, AWAKE = 20000, 128


class AudioThreadTest(BrowserCase):
    """What the audio thread makes of sounds of one level each: (when it comes, level, edition, frames, place)."""

    def setUp(self):
        self.page = self.open("/")

    def heard(self, *sounds):
        """The level at every thousandth frame of the first half of the loop, which has level 1."""
        loop = (AWAKE, 0.1, 1, LENGTH, None)
        found = np.array(self.page.evaluate(PLAYED, [loop, *sounds]))
        self.assertLess(float(np.abs(np.diff(found[1000:])).max()), 1e-3)  # it is faded to each
        return [round(10.0 * float(level), 2) for level in found[AWAKE + 1400 : 11000 : 1000]]

    def test_pieces_are_taken_at_their_places_and_the_loop_goes_on_behind_them(self):
        first, second = (1536, 0.2, 2, 4000, 1400), (2048, 0.3, 2, 4000, 4400)
        self.assertEqual(self.heard(first, second), [1, 2, 2, 2, 3, 3, 3, 1, 1, 1])
        early = [(at, *sound[1:]) for at, sound in ((1024, first), (1152, second))]
        self.assertEqual(self.heard(*early), [1, 2, 2, 2, 3, 3, 3, 1, 1, 1])
        late = (5504, *second[1:])
        self.assertEqual(self.heard(first, late), [1, 2, 2, 2, 1, 3, 3, 1, 1, 1])

    def test_a_piece_that_waits_gives_way_to_what_is_newer(self):
        first, second = (1536, 0.2, 2, 4000, 1400), (2048, 0.3, 2, 4000, 4400)
        further, edited = (2560, 0.4, 2, 5400, 2000), (2560, 0.4, 3, 5400, 2000)
        for newer in (further, edited):
            self.assertEqual(self.heard(first, second, newer), [1, 2, 4, 4, 4, 4, 1, 1, 1, 1], newer)
        waiting = (2560, 0.4, 3, 3000, 5400)
        self.assertEqual(self.heard(first, second, waiting), [1, 2, 2, 2, 1, 4, 4, 1, 1, 1])
        loop = (2560, 0.5, 3, LENGTH, None)
        self.assertEqual(self.heard(first, second, loop), [1, 2, 5, 5, 5, 5, 5, 5, 5, 5])


COURIER = """
() => {
  const courier = new Worker("/static/js/courier.js", { type: "module" });
  window.told = [];
  courier.onmessage = ({ data }) => told.push(Object.keys(data).join());
  courier.postMessage({ order: "begin", url: `${location.origin}/played`, client: "test" });
  const { port1, port2 } = new MessageChannel();
  window.carried = [];
  port1.onmessage = ({ data }) => carried.push(data.order === "load" ? [data.loop.begins, data.loop.edition] : data.order);
  courier.postMessage({ order: "audio", port: port2, rate: 48000 }, [port2]);
  window.edited = (id, final) => courier.postMessage(
    { order: "edit", id, final, url: `${location.origin}/played/${id}`, data: { base: 1, hears: null } });
}
"""


class CourierTest(BrowserCase):
    """What is fetched of edits that are answered in another order, with a server that the test plays."""

    def setUp(self):
        self.page, self.asked = self.open("/"), {}
        self.addCleanup(lambda asked: "loop" in asked and asked["loop"].abort(), self.asked)
        self.page.route("**/played/**", lambda route: self.asked.update({route.request.url.split("/")[-1]: route}))
        self.page.evaluate(COURIER)
        for number, final in ((1, False), (2, True)):
            self.page.evaluate("([id, final]) => edited(id, final)", [number, final])
        self.waits_for("1", "2")

    def waits_for(self, *names):
        for _ in range(500):
            if self.asked.keys() >= set(names):
                return
            self.page.wait_for_timeout(20)
        self.fail(f"never asked for: {names}")

    def answer(self, number, *parts):
        self.asked[number].fulfill(body=b"".join(parts), content_type=PARTS)

    def test_one_that_was_overtaken_and_comes_late_changes_nothing(self):
        stretch = {"revision": 3, "frames": 4, "begins": 0, "length": 96000, "rate": 48000, "ms": 1.0}
        answer = answer_part({"answer": {"revision": 3}})
        self.answer("2", answer_part({"kept": 3}), answer_part(stretch, bytes(32)), answer)
        self.waits_for("loop")
        self.answer("1", answer_part({"answer": {"revision": 2}}))
        # The loop is not there: the next stretch is asked for all the same.
        self.until(self.page, "carried.includes('where')")

    def test_a_second_piece_is_carried_behind_the_first_and_the_loop_is_asked_for_in_any_case(self):
        first = {"revision": 3, "frames": 4, "begins": 0, "length": 96000, "rate": 48000, "ms": 1.0, "more": True}
        second = {**first, "begins": 3, "more": False}
        for pieces in ([first, second], [first]):
            self.answer("1", answer_part({"answer": {"revision": 2}}))
            parts = [answer_part(each, bytes(32)) for each in pieces]
            self.answer("2", answer_part({"kept": 3}), *parts, answer_part({"answer": {"revision": 3}}))
            self.waits_for("loop")
            found = self.page.evaluate("carried.filter((each) => each !== 'where')")
            self.assertEqual(found, [[each["begins"], 1] for each in pieces])
            if len(pieces) > 1:
                self.setUp()

    def test_where_the_newest_is_refused_the_one_before_is_heard(self):
        for late in (True, False):
            if not late:
                self.answer("1", answer_part({"answer": {"revision": 2}}))
                self.until(self.page, "told.includes('id,answer')")
                self.assertNotIn("loop", self.asked)
            self.asked["2"].fulfill(status=422, json={"error": "no"})
            self.until(self.page, "told.includes('id,error')")
            if late:
                self.assertNotIn("loop", self.asked)
                self.answer("1", answer_part({"answer": {"revision": 2}}))
            self.waits_for("loop")
            if late:
                self.setUp()


class UndrawnTest(BrowserCase):
    def test_what_an_answer_does_not_draw_is_asked_for_unless_a_newer_one_is_on_its_way(self):
        self.addCleanup(self.undo_all, "Slipway")
        page, asked = self.bench("Slipway"), []

        def undrawn(route):
            answer = route.fetch()
            route.fulfill(response=answer, json={**answer.json(), "plan": None})

        page.on("request", lambda request: asked.append(request.url) if request.url.endswith("/plan") else None)
        for layers, more in ((["high"], 1), (["high", "sub"], 0)):
            page.route("**/edits", undrawn, times=1)
            before = len(asked)
            page.evaluate(
                "(layers) => layers.forEach((id) => document.querySelector(`#layers [data-owner='layers/${id}'] [data-toggle]`).click())",
                layers,
            )
            self.settled(page)
            self.assertEqual(len(asked) - before, more, layers)
            for layer in layers:
                muted = self.document("Slipway")["layers"][("sub", "mid", "high").index(layer)]["mute"]
                row = page.locator(f"#layers [data-owner='layers/{layer}']")
                self.assertEqual("is-muted" in row.get_attribute("class"), muted, layer)
        self.assertEqual(self.complaints, [])


class HearingTest(BrowserCase):
    def setUp(self):
        for name in self.stacks:
            self.addCleanup(self.undo_all, name)

    def sounded(self, page, revision, kind):
        """Waits until the audio thread has taken a stretch, or the loop, of a revision."""
        self.until(
            page,
            "([r, kind]) => marks.some((mark) => mark.sounding === r && mark.kind === kind)",
            [revision, kind],
        )

    def test_first_a_stretch_then_the_loop_and_no_click_at_either(self):
        page = self.bench("Slipway")
        self.play(page)
        name = "Slipway"
        for path, value in (
            ("layers/high/mute", True),
            ("layers/mid/level_db", -14.0),
            ("layers/mid/path/clip/drive_db", 12.0),
        ):
            before = self.stretched(page, name, path, value)
            self.listen(page, 16384)
            heard, after = self.heard(page), self.loop(name)
            order = page.evaluate("marks.filter((mark) => mark.sounding).map((mark) => mark.kind)")
            # On a busy machine the loop may be asked for once more: it is the same, and nothing is heard of that. A mute
            # may be heard from stems before.
            exact = [kind for kind, _ in itertools.groupby(order) if kind != "stems"]
            self.assertEqual(exact, ["stretch", "loop"], path)
            starts = places_of(heard[0, :8192], before[0])
            start = max(starts, key=lambda at: np.count_nonzero(agrees(heard, before, at) | agrees(heard, after, at)))
            old, new = agrees(heard, before, start), agrees(heard, after, start)
            self.assertTrue(np.all(old[:8192]) and np.all(new[-8192:]), path)
            # From the end of the first fade on it is the new loop: nearly, and then exactly.
            left = int(np.argmin(old)) if not np.all(old) else 0
            index = (start + np.arange(heard.shape[1])) % after.shape[1]
            off = np.max(np.abs(heard - after[:, index]), axis=0)[left + FADE :]
            self.assertLess(float(off.max()), 10.0 ** (LONG_DB / 20.0) * float(np.abs(after).max()), path)
            most = max(float(np.abs(np.diff(loop, axis=1)).max()) for loop in (before, after))
            self.assertLessEqual(float(np.abs(np.diff(heard, axis=1)).max()), 1.02 * most + 1e-6, path)
            self.assertLess(
                highest(heard), 1.5 * max(highest(np.tile(loop, 2)) for loop in (before, after)) + 1e-5, path
            )
        self.assertEqual(self.complaints, [])

    def apart(self, page, loop):
        """How far the next half second that is heard is from a loop, at most."""
        page.evaluate("takeHeard()")
        self.listen(page, RATE // 2)
        heard = self.heard(page)
        rounds = (loop[:, (at + np.arange(heard.shape[1])) % loop.shape[1]] for at in places_of(heard[0], loop[0]))
        return min(float(np.max(np.abs(heard - around))) for around in rounds)

    def stretched(self, page, name, path, value):
        """Makes an edit of which a stretch is heard and then the loop; gives the loop before it.

        Where a machine is so busy that a stretch comes when it would have ended, or ends before the loop has come and
        the old loop is heard once more, the edit is taken back and made again: the next stretch is longer.
        """
        for _ in range(TRIES):
            self.settled(page)
            before = self.loop(name)
            page.evaluate("takeHeard()")
            page.evaluate("marks.length = 0")
            self.listen(page, 16384)
            self.post_edit(page, path, value)
            self.settled(page)
            revision = self.server.plan(self.stacks[name])["revision"]
            self.sounded(page, revision, "loop")
            found = page.evaluate("marks.filter((mark) => mark.sounding)")
            if any(mark["kind"] == "stretch" for mark in found) and all(
                mark["sounding"] == revision for mark in found if mark["kind"] == "loop"
            ):
                return before
            page.evaluate("marks.length = 0")
            page.click("#undo")
            self.settled(page)
            self.sounded(page, self.server.plan(self.stacks[name])["revision"], "loop")
        raise AssertionError(f"{path}: in none of {TRIES} edits was a stretch heard until its loop came")

    def post_edit(self, page, path, value):
        """Sets a value as a control of the page does."""
        page.click("#layers .row-name >> text=mid")
        self.unfold(page, "layers/mid/path/clip")
        if isinstance(value, bool):
            page.click(f"#layers [data-path='{path}']")
            return
        field = page.locator(f"input[type=number][data-path='{path}']").first
        field.fill(str(value))
        field.press("Enter")

    def test_a_drag_asks_for_stretches_alone_and_for_the_loop_when_the_hand_has_let_go(self):
        page = self.bench("Slipway")
        self.play(page)
        page.click("#layers .row-name >> text=mid")
        page.wait_for_selector("#profile .eq-point")
        self.settled(page)
        asked = []
        page.on("request", lambda request: asked.append((time.monotonic(), request.url)))
        box = page.locator("#profile .eq-point .grip-area").first.bounding_box()
        x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
        page.mouse.move(x, y)
        page.mouse.down()
        for step in range(1, 9):
            page.mouse.move(x - 3 * step, y)
            page.wait_for_timeout(60)
        edits = [at for at, url in asked if "/edits" in url]
        self.assertGreater(len(edits), 2)
        # A hand that rests wants to hear all of it; on a busy machine it rests against its will.
        rests = sum(later - earlier > RESTS_S for earlier, later in itertools.pairwise([*edits, time.monotonic()]))
        self.assertLessEqual(sum("/loop" in url for _, url in asked), rests)
        self.until(page, "marks.some((mark) => mark.kind === 'stretch')")
        asked.clear()
        page.mouse.up()
        self.settled(page)
        self.assertGreaterEqual(sum("/loop" in url for _, url in asked), 1)

    def test_a_loop_that_is_long_in_coming_is_bridged_by_further_stretches(self):
        page = self.bench("Slipway")
        self.play(page)
        self.settled(page)
        held = []

        def late(route):
            held.append(route)

        page.context.route("**/loop", late)
        page.evaluate("takeHeard()")
        page.evaluate("marks.length = 0")
        page.click("#layers [data-path='layers/high/mute']")
        self.until(page, "marks.filter((mark) => mark.kind === 'stretch').length >= 3")
        self.listen(page, RATE)
        after = self.loop("Slipway")
        near = 10.0 ** (LONG_DB / 20.0) * float(np.abs(after).max())
        # A stretch is as long as lately they took to come. Where one takes much longer all at once, the old loop is heard
        # once more; not again and again.
        self.assertTrue(any(self.apart(page, after) < near for _ in range(TRIES)))
        for route in held:
            route.continue_()
        self.until(page, "marks.some((mark) => mark.kind === 'loop')")
        self.settled(page)


if __name__ == "__main__":
    import unittest

    unittest.main()
