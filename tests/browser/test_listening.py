"""What the page plays is compared, sample by sample, with what the engine renders."""

import statistics
import sys

import numpy as np

from tests.browser.page import BrowserCase, agrees, follows, places_of

RATE = 48000
FADE = 960


class ListeningTest(BrowserCase):
    def setUp(self):
        for name in self.stacks:
            self.addCleanup(self.undo_all, name)

    def test_the_loop_plays_bit_for_bit_over_its_seam(self):
        page = self.bench("Slipway")
        self.play(page)
        loop = self.loop("Slipway")
        self.listen(page, loop.shape[1] + RATE // 2)
        heard = self.heard(page)
        self.assertGreater(heard.shape[1], loop.shape[1])
        self.assertTrue(follows(heard, loop))
        self.assertEqual(self.complaints, [])

    def test_edits_are_heard_in_the_running_loop(self):
        page = self.bench("Slipway", moving=True)
        self.play(page)
        waits = {}

        def crossover(number):
            self.drag(
                page, "#passage .border[data-key='crossover:lower'] .grip", 0, 14 if number % 2 else -14, at_x=200
            )

        def equaliser(number):
            self.drag(page, "#profile .eq-point .grip-area", 14 if number % 2 else -14, 0)

        def mute(number):
            page.click("#layers [data-path='layers/high/mute']")

        page.click("#layers .row-name >> text=mid")
        page.wait_for_selector("#profile .eq-point")
        for name, act in (("crossover", crossover), ("EQ", equaliser), ("mute", mute)):
            for number in range(4):
                self.settled(page)
                page.wait_for_timeout(150)
                before = self.loop("Slipway")
                page.evaluate("takeHeard()")
                page.evaluate("marks.length = 0")
                self.listen(page, 16384)
                act(number)
                self.settled(page)
                revision = self.server.plan(self.stacks["Slipway"])["revision"]
                self.until(page, "r => marks.some((mark) => mark.sounding === r)", arg=revision)
                self.listen(page, 16384)
                heard, after = self.heard(page), self.loop("Slipway")
                marks = page.evaluate("marks")
                released = next(mark["released"] for mark in marks if "released" in mark)
                waits.setdefault(name, []).append(
                    next(mark["at"] for mark in marks if mark.get("sounding") == revision) - released
                )
                sounded = sum("sounding" in mark for mark in marks)
                self.assertFalse(np.array_equal(before, after))
                # The place goes on: both loops are met from one and the same start.
                met = [
                    (agrees(heard, before, start), agrees(heard, after, start))
                    for start in places_of(heard[0, :8192], before[0])
                ]
                held = [(old, new) for old, new in met if np.all(old[:8192]) and np.all(new[-8192:])]
                self.assertTrue(held, name)
                # Nowhere a jump: no step is larger than the steps of the two loops and what a fade adds.
                most = max(float(np.abs(np.diff(loop, axis=1)).max()) for loop in (before, after))
                fade = float(np.abs(after - before).max()) / FADE
                self.assertLessEqual(float(np.abs(np.diff(heard, axis=1)).max()), most + fade + 1e-6, name)
                if name == "mute":  # a drag plays its way through several versions; this is one change
                    start = max(
                        places_of(heard[0, :8192], before[0]),
                        key=lambda at: np.count_nonzero(agrees(heard, before, at)),
                    )
                    self.is_nearly_either(heard, before, after, start, sounded)
        medians = {name: statistics.median(times) for name, times in waits.items()}
        for name, times in waits.items():
            print(
                f"\n  release to new sound, {name}: median {medians[name]:.0f} ms of {[round(t) for t in times]}",
                file=sys.stderr,
                end="",
            )
        print(file=sys.stderr)
        self.assertEqual(self.complaints, [])

    def is_nearly_either(self, heard, before, after, start, sounded):
        """Between the two loops lies what a stretch is allowed to be off, and the fades to what sounded one after
        another."""
        index = (start + np.arange(heard.shape[1])) % before.shape[1]
        peak = float(max(np.abs(before).max(), np.abs(after).max()))
        off = [
            np.max(np.abs(heard - loop[:, index]), axis=0) > 10.0 ** (-30.0 / 20.0) * peak for loop in (before, after)
        ]
        # A mute is heard from stems, then as a stretch, then as the loop; on a busy machine a stretch may end before the
        # next one has come, and the old loop is heard in between.
        self.assertLessEqual(int(np.count_nonzero(off[0] & off[1])), (sounded + 1) * FADE)

    def test_where_less_motion_is_wanted_the_playhead_goes_in_steps(self):
        page = self.bench("Rope Walk")
        self.play(page)
        page.evaluate(
            """() => {
              window.steps = 0;
              window.begun = performance.now();
              const line = document.querySelector(".playhead");
              let place = line.getBoundingClientRect().x;
              const look = () => {
                const now = line.getBoundingClientRect().x;
                window.steps += now !== place;
                place = now;
                requestAnimationFrame(look);
              };
              look();
            }"""
        )
        self.until(page, "steps >= 10")
        # Ten a second at most: a timer never comes too soon, and on a busy machine it comes late.
        steps, ms = page.evaluate("[steps, performance.now() - begun]")
        self.assertLessEqual(steps, ms / 100.0 + 2)

    def test_the_playhead_goes_by_itself_and_is_where_the_sound_is(self):
        page = self.bench("Rope Walk", moving=True)
        self.play(page)
        line = page.locator("#passage-panel .playhead")
        self.until(page, "document.querySelector('.playhead').getAnimations()[0]?.playState === 'running'")

        def apart():
            """By how many beats of the loop the line and what is told of the place differ; they are looked at together."""
            return page.evaluate(
                """() => {
                  const line = document.querySelector("#passage-panel .playhead").getBoundingClientRect();
                  const box = document.getElementById("passage").getBoundingClientRect();
                  const beats = Number(document.getElementById("bench").dataset.beats);
                  const bars = Number(document.getElementById("bench").dataset.beatsPerBar);
                  const [bar, beat, part] = document.getElementById("position").textContent.split(".").map(Number);
                  const told = (bar - 1) * bars + (beat - 1) + (part - 0.5) / 4;
                  const off = Math.abs((line.x + 1 - box.x) / box.width * beats - told);
                  return Math.min(off, beats - off);
                }"""
            )

        # A sixteenth is told as a whole; the place is told 20 times a second, and later on a busy machine.
        self.until(page, "Number(document.getElementById('position').textContent.split('.')[1]) === 3")
        self.assertTrue(any(apart() < 0.4 for _ in range(20)))
        page.keyboard.press("Space")
        self.until(page, "document.querySelector('.playhead').getAnimations()[0].playState === 'paused'")
        # It stays where the sound has faded out, of which the audio thread tells a moment later.
        places = [line.bounding_box()["x"]]
        while len(places) < 100 and places[-4:].count(places[-1]) < 4:
            page.wait_for_timeout(100)
            places.append(line.bounding_box()["x"])
        there = places[-1]
        self.assertEqual(places[-4:], [there] * 4)
        self.assertLess(apart(), 0.4)
        page.locator("#passage").click(position={"x": 300, "y": 6})
        self.until(page, "there => document.querySelector('.playhead').getBoundingClientRect().x !== there", there)

    def test_stop_and_go_on(self):
        page = self.bench("Rope Walk")
        self.play(page)
        page.keyboard.press("Space")
        self.until(page, "document.getElementById('play').textContent === 'Play'")
        page.wait_for_timeout(200)
        page.evaluate("takeHeard()")
        shown = page.inner_text("#position")
        page.wait_for_timeout(400)
        self.assertEqual(page.inner_text("#position"), shown)
        page.keyboard.press("Space")
        self.listen(page, 32768)
        heard, loop = self.heard(page)[:, 16384:], self.loop("Rope Walk")
        self.assertTrue(follows(heard, loop))

    def test_a_change_of_tempo_keeps_the_place_in_the_bar(self):
        page = self.bench("Slipway")
        self.play(page)
        page.click("#sheet [data-select=piece]")
        page.fill("#sheet input[type=number][data-path=tempo_bpm]", "100")
        page.keyboard.press("Enter")
        self.until(page, "document.querySelector('#head').textContent.includes('100 bpm')")
        self.settled(page)
        self.listen(page, 16384)
        page.evaluate("takeHeard()")
        self.listen(page, 24000)
        heard, loop = self.heard(page), self.loop("Slipway")
        self.assertEqual(loop.shape[1], round(16 * 0.6 * RATE))
        self.assertTrue(follows(heard, loop))
        page.keyboard.press("Control+z")
        self.until(page, "document.querySelector('#head').textContent.includes('126 bpm')")
