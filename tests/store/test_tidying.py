"""Old history is thinned by the rule that is told; nothing that stands, or is named, goes."""

from unittest import mock

import numpy as np

from apilado.store import tidying
from apilado.store.jobs import KeptJobs
from apilado.store.sounds import Origin
from apilado.store.tidying import rule_in_words, tidy
from tests.store.test_sounds import SoundsCase
from tests.store.test_store import named, step
from tests.support import sine, wav


class TidyCase(SoundsCase):
    def aged(self, revision, days, hour=0):
        """Makes a revision so many days old, in an hour of that day."""
        at = f"strftime('%Y-%m-%dT', 'now', '-{days} days') || '{hour:02d}:30:00.000Z'"
        with self.database.transaction() as connection:
            connection.execute(f"UPDATE revisions SET at = {at} WHERE id = ?", (revision,))

    def history(self, ages):
        """A stack with a step for each (days, hour), called by its number."""
        head = self.stacks.create(named("0"))
        self.aged(head.id, *ages[0])
        for number, age in enumerate(ages[1:], start=1):
            head = self.stacks.append(head.stack_id, head.id, step(str(number)))
            self.aged(head.id, *age)
        return head

    def undone(self, stack_id):
        """The names of the states from the head back, with what undo would have said of each."""
        found = []
        while True:
            stepped = self.stacks.undo(stack_id)
            if stepped.title is None:
                return found
            found.append((stepped.revision.stack.name, stepped.title))


class ThinTest(TidyCase):
    def test_of_each_hour_the_last_step_stays(self):
        head = self.history([(100, 1), (100, 1), (100, 1), (100, 2), (100, 2), (99, 2), (5, 1), (5, 1)])
        done = tidy(self.database, 90)
        self.assertEqual(done.steps, 2)
        self.assertEqual(
            self.undone(head.stack_id),
            [("6", "7"), ("5", "6"), ("4", "5"), ("2", "4, and 1 step before it"), ("0", "2, and 1 step before it")],
        )
        self.assertEqual(tidy(self.database, 90).steps, 0)

    def test_redo_still_leads_on(self):
        head = self.history([(100, 1), (100, 1), (100, 1), (100, 1)])
        for _ in range(3):
            self.stacks.undo(head.stack_id)
        tidy(self.database, 90)
        self.assertEqual(self.stacks.head(head.stack_id).stack.name, "0")
        self.assertEqual(self.stacks.redo(head.stack_id).revision.stack.name, "3")

    def test_what_was_undone_and_left_goes_when_it_is_old(self):
        head = self.history([(100, 1), (100, 2), (100, 3)])
        self.stacks.undo(head.stack_id)
        other = self.stacks.append(head.stack_id, head.id - 1, step("other"))
        self.aged(other.id, 3)
        tidy(self.database, 90)
        self.assertEqual([name for name, _ in self.undone(head.stack_id)], ["1", "0"])
        with self.database.reading() as connection:
            self.assertEqual(connection.execute("SELECT count(*) FROM revisions").fetchone()[0], 3)

    def test_a_state_that_a_sound_was_made_of_stays(self):
        head = self.history([(100, 1), (100, 1), (100, 1)])
        self.assets.add(wav(sine(50.0, 0.02)), "b.wav", Origin("b", "bounced", "x", head.stack_id, head.id - 1))
        self.assertEqual(tidy(self.database, 90).steps, 0)
        self.assertEqual(self.stacks.at(head.stack_id, head.id - 1).name, "1")

    def test_none_is_thinned_where_all_is_kept(self):
        self.history([(900, 1)] * 5)
        self.assertEqual(tidy(self.database, 0).steps, 0)
        self.assertIn("every step of undo is kept", rule_in_words(0))
        self.assertIn("older than 30 days", rule_in_words(30))

    def test_removed_stacks_go_with_all_that_is_theirs(self):
        kept, gone = self.history([(100, 1)] * 3), self.history([(100, 1)] * 3)
        for stack_id in (kept.stack_id, gone.stack_id):
            self.stacks.delete(stack_id)
        with self.database.transaction() as connection:
            old = "strftime('%Y-%m-%dT%H:%M:%fZ', 'now', '-91 days')"
            connection.execute(f"UPDATE stacks SET deleted_at = {old} WHERE id = ?", (gone.stack_id,))
        self.assertEqual(tidy(self.database, 90).stacks, 1)
        self.stacks.restore(kept.stack_id)
        self.assertEqual(self.stacks.head(kept.stack_id).stack.name, "2")
        with self.database.reading() as connection:
            rows = connection.execute("SELECT count(*) FROM revisions WHERE stack = ?", (gone.stack_id,))
            self.assertEqual(rows.fetchone()[0], 0)

    def test_random_histories_keep_what_the_rule_says(self):
        for seed in range(4):
            random = np.random.default_rng(seed)
            head = self.history([(int(random.integers(60, 120)), int(random.integers(0, 3))) for _ in range(12)])
            before = self.stacks.head(head.stack_id).stack
            with self.database.reading() as connection:
                query = "SELECT id, substr(at, 1, 13) AS hour, at FROM revisions WHERE stack = ? ORDER BY id"
                rows = connection.execute(query, (head.stack_id,)).fetchall()
                limit = connection.execute("SELECT strftime('%Y-%m-%dT%H:%M:%fZ', 'now', '-90 days')").fetchone()[0]
            last = {row["hour"]: row["id"] for row in rows}
            wanted = {row["id"] for row in rows if row["at"] >= limit} | set(last.values()) | {rows[0]["id"], head.id}
            tidy(self.database, 90)
            with self.database.reading() as connection:
                left = {
                    row["id"]
                    for row in connection.execute("SELECT id FROM revisions WHERE stack = ?", (head.stack_id,))
                }
            self.assertEqual(left, wanted)
            self.assertEqual(self.stacks.head(head.stack_id).stack, before)
            self.assertEqual(len(self.undone(head.stack_id)), len(wanted) - 1)


class JobsTest(TidyCase):
    def test_what_has_ended_is_forgotten_but_for_deliveries(self):
        jobs, head = KeptJobs(self.database), self.stacks.create(named("0"))
        for kind, state in (("bounce", "done"), ("bounce", "broken off"), ("deliver", "done"), ("freeze", "failed")):
            number = jobs.begin(kind, head.stack_id, head.id, head.stack, f"{kind} {state}", {})
            jobs.end(number, state, "x")
        tidy(self.database, 90)
        self.assertEqual(len(jobs.listed()), 4, "they are of today")
        with self.database.transaction() as connection:
            connection.execute("UPDATE jobs SET ended_at = strftime('%Y-%m-%dT%H:%M:%fZ', 'now', '-2 days')")
        tidy(self.database, 90)
        self.assertEqual([job.title for job in jobs.listed()], ["deliver done", "bounce broken off"])


class RoomTest(TidyCase):
    def test_free_pages_are_given_back_where_they_are_many(self):
        head = self.history([(1, 1)] * 3)
        with self.database.transaction() as connection:
            connection.execute("CREATE TABLE filler (x BLOB)")
            connection.execute("INSERT INTO filler VALUES (zeroblob(3000000))")
        with self.database.transaction() as connection:
            connection.execute("DROP TABLE filler")
        size = self.database.path.stat().st_size
        with mock.patch.object(tidying, "FREE_BYTES", 10**9):
            self.assertEqual(tidy(self.database, 90).freed_bytes, 0)
        with mock.patch.object(tidying, "FREE_BYTES", 10**6):
            done = tidy(self.database, 90)
        self.assertGreater(done.freed_bytes, 2_900_000)
        self.assertIn("2.9 MiB given back", done.in_words())
        self.assertLess(self.database.path.stat().st_size, size - 2_900_000 if size > 2_900_000 else 400_000)
        self.assertEqual(self.stacks.head(head.stack_id).stack.name, "2")

    def test_it_is_said_what_was_done(self):
        self.assertEqual(tidy(self.database, 90).in_words(), "nothing to tidy")
