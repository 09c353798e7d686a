"""The Quarry's entries: found by words and by what they are, never lost while something uses them."""

import sqlite3
from unittest import mock

from apilado.core.document.cast import Cast
from apilado.core.document.layer import Layer
from apilado.core.sources.take import TakeSource
from apilado.errors import InvalidEdit, NotFound
from apilado.store.assets import Assets
from apilado.store.casts import Casts
from apilado.store.sounds import PAGE, Filters, Measured, Origin, Sounds, in_words, name_of, tidy_tags
from apilado.store.stacks import Step
from tests.store.test_store import STACK, StoreCase
from tests.support import plain_stack, sine, wav


def playing(asset, name="Test piece"):
    layer = Layer(id="a", name="a", source=TakeSource(asset=asset, file_name="take.wav"))
    return plain_stack(layers=(layer,), name=name)


class SoundsCase(StoreCase):
    def setUp(self):
        super().setUp()
        self.assets, self.sounds = Assets(self.database, self.folder / "assets"), Sounds(self.database)

    def bring(self, name, **origin):
        count = self.sounds.found(Filters()).count
        content = wav(sine(50.0 + count, 0.02))
        self.assets.add(content, "file.wav", Origin(name=name, **origin))
        return self.sounds.found(Filters()).entries[0]

    def names(self, **filters):
        return [entry.name for entry in self.sounds.found(Filters(**filters)).entries]


class FindingTest(SoundsCase):
    def setUp(self):
        super().setUp()
        for name, tags, measured, origin in (
            (
                "Crane thump",
                "low dry",
                (1.0, 41.0, 126.0),
                {"kind": "bounced", "key": "F minor", "made_of": "sub, loop"},
            ),
            ("Sluice gate", "metal", (4.0, 82.0, None), {}),
            ("Kranführer Ärmel", "low", (8.0, None, 87.0), {"tempo_bpm": 88.0}),
        ):
            entry = self.bring(name, **origin)
            self.sounds.change(entry.id, tags=tags)
            seconds, hertz, tempo = measured
            self.sounds.keep_measured(entry.id, Measured(seconds, 1, hertz, tempo, -20.0, b"\x01"))

    def test_by_words(self):
        for words, found in (
            ("crane", ["Crane thump"]),
            ("CRA", ["Crane thump"]),
            ("thump crane", ["Crane thump"]),
            ("low", ["Kranführer Ärmel", "Crane thump"]),
            ("low thu", ["Crane thump"]),
            ("kranfuhrer arm", ["Kranführer Ärmel"]),
            ("loop", ["Crane thump"]),
            ("ump", []),
            ('" OR *', []),
            ("-- '); NEAR(", []),
            ("  ", ["Kranführer Ärmel", "Sluice gate", "Crane thump"]),
        ):
            with self.subTest(words=words):
                self.assertEqual(self.names(words=words), found)

    def test_by_what_they_are(self):
        for filters, found in (
            ({"origin": "bounced"}, ["Crane thump"]),
            ({"tag": "low"}, ["Kranführer Ärmel", "Crane thump"]),
            ({"tag": "lo"}, []),
            ({"tag": "%"}, []),
            ({"key": "F minor"}, ["Crane thump"]),
            ({"shortest_s": 2.0}, ["Kranführer Ärmel", "Sluice gate"]),
            ({"longest_s": 4.0}, ["Sluice gate", "Crane thump"]),
            ({"lowest_hz": 40.0, "highest_hz": 60.0}, ["Crane thump"]),
            ({"slowest_bpm": 100.0}, ["Crane thump"]),
            ({"fastest_bpm": 88.0}, ["Kranführer Ärmel"]),
            ({"used": "used"}, []),
            ({"pinned": True}, []),
            ({"month": self.sounds.facets().months[0], "words": "gate"}, ["Sluice gate"]),
            ({"month": "1999-01"}, []),
        ):
            with self.subTest(**filters):
                self.assertEqual(self.names(**filters), found)

    def test_a_tempo_that_is_known_stays(self):
        self.assertEqual(self.sounds.found(Filters(words="armel")).entries[0].tempo_bpm, 88.0)

    def test_changed_words_are_found_and_old_ones_no_longer(self):
        entry = self.sounds.found(Filters(words="gate")).entries[0]
        self.sounds.change(entry.id, name="Lock chamber", tags="Wide, wide; DARK")
        self.assertEqual(self.names(words="gate"), [])
        self.assertEqual(self.names(words="lock dark"), ["Lock chamber"])
        facets = self.sounds.facets()
        self.assertEqual((facets.tags, facets.keys, facets.count), (("dark", "dry", "low", "wide"), ("F minor",), 3))
        with self.assertRaisesRegex(InvalidEdit, "needs a name"):
            self.sounds.change(entry.id, name="  ")

    def test_pages(self):
        for number in range(PAGE):
            self.bring(f"drop {number}")
        first = self.sounds.found(Filters())
        rest = self.sounds.found(Filters(), first.following)
        self.assertEqual((len(first.entries), first.count, len(rest.entries), rest.following), (PAGE, PAGE + 3, 3, 0))
        numbers = [entry.id for entry in (*first.entries, *rest.entries)]
        self.assertEqual(numbers, sorted(numbers, reverse=True))
        self.assertEqual(len(set(numbers)), PAGE + 3)
        self.assertEqual(self.sounds.found(Filters(words="drop")).following, 0)

    def test_names(self):
        self.assertEqual(self.sounds.fresh_name("Sluice gate"), "Sluice gate 2")
        self.bring("Sluice gate 2")
        self.assertEqual(self.sounds.fresh_name("Sluice gate"), "Sluice gate 3")
        self.assertEqual(self.sounds.fresh_name("Slui_e gate"), "Slui_e gate")
        self.assertEqual([name_of(each) for each in ("a/b.c.wav", ".wav", "kick")], ["b.c", "sound", "kick"])

    def test_words_and_tags(self):
        self.assertEqual(in_words("Low-end 41 Hz"), '"low"* "end"* "41"* "hz"*')
        self.assertEqual(tidy_tags(" Low,low  dry;\tX "), "low dry x")
        self.assertLessEqual(len(tidy_tags(" ".join(f"word{n}" for n in range(100)))), 200)


class KeepingTest(SoundsCase):
    def test_one_content_is_one_entry(self):
        content = wav(sine(44.0, 0.02))
        self.assets.add(content, "first.wav")
        (entry,) = self.sounds.found(Filters()).entries
        self.sounds.remove(entry.id)
        self.assets.add(content, "second.wav")
        self.assertEqual(self.names(), ["first"])

    def test_what_is_used_stays(self):
        entry = self.bring("post")
        head = self.stacks.create(playing(entry.asset))
        with self.assertRaisesRegex(InvalidEdit, "'post' is used"):
            self.sounds.remove(entry.id)
        self.assertEqual([(use.stack, use.standing) for use in self.sounds.uses(entry.id)], [(head.stack_id, True)])
        # Undo could bring it back: the history uses it too.
        self.stacks.append(head.stack_id, head.id, Step(plain_stack(), "Remove a"))
        self.assertEqual([use.standing for use in self.sounds.uses(entry.id)], [False])
        with self.assertRaisesRegex(InvalidEdit, "its history"):
            self.sounds.remove(entry.id)
        self.assertEqual((self.names(used="used"), self.names(used="unused")), (["post"], []))
        self.assertFalse(self.assets.delete_unused(entry.asset))

    def test_a_cast_uses_it(self):
        entry = self.bring("post")
        head = self.stacks.create(STACK)
        Casts(self.database).keep(head.stack_id, head.id, Cast(name="then", stack=playing(entry.asset)))
        self.assertEqual([(use.stack, use.standing) for use in self.sounds.uses(entry.id)], [(head.stack_id, False)])
        with self.assertRaisesRegex(InvalidEdit, "is used"):
            self.sounds.remove(entry.id)

    def test_removed_put_back_cleared(self):
        kept, gone = self.bring("kept"), self.bring("gone")
        self.sounds.remove(gone.id)
        self.assertEqual((self.names(), self.names(words="gone")), (["kept"], []))
        self.assertEqual(self.sounds.clearable(), ((gone.asset, len(self.assets.get(gone.asset).content)),))
        self.sounds.put_back(gone.id)
        self.assertEqual((self.names(), self.sounds.clearable()), (["gone", "kept"], ()))
        self.sounds.remove(gone.id)
        self.assertTrue(self.assets.delete_unused(gone.asset))
        self.assertFalse(self.assets.delete_unused(kept.asset), "it is in the list")
        self.assertEqual([file.stem for file in self.assets.folder.iterdir()], [kept.asset])
        for act in (self.sounds.put_back, self.sounds.entry, self.sounds.remove):
            with self.assertRaises(NotFound):
                act(gone.id)
        with self.assertRaises(NotFound):
            self.sounds.entry(2**70)

    def test_what_was_frozen_is_in_no_list(self):
        entry = self.bring("seen")
        content = wav(sine(99.0, 0.02))
        frozen = self.assets.add(content, "frozen.wav", Origin(name="a, frozen", kind="frozen"))
        self.assertEqual((self.names(), self.sounds.unmeasured()), (["seen"], (entry,)))
        self.assertEqual([asset for asset, _ in self.sounds.clearable()], [frozen.sha256])
        self.stacks.create(playing(frozen.sha256))
        self.assertEqual(self.sounds.clearable(), ())

    def test_the_database_itself_keeps_what_is_used(self):
        entry = self.bring("post")
        self.stacks.create(playing(entry.asset))
        for table, column, value in (("sounds", "id", entry.id), ("assets", "sha256", entry.asset)):
            with self.assertRaises(sqlite3.IntegrityError), self.database.transaction() as connection:
                connection.execute(f"DELETE FROM {table} WHERE {column} = ?", (value,))


class UnderWayTest(SoundsCase):
    """The program ends in the middle of a file's coming or going: what is left of it goes at the next start."""

    def files(self):
        return sorted(path.stem for path in self.assets.folder.iterdir())

    def under_way(self):
        with self.database.reading() as connection:
            return [row["name"] for row in connection.execute("SELECT name FROM files_under_way")]

    def test_it_ends_before_the_row_is_there(self):
        kept = self.bring("kept")
        with mock.patch.object(Assets, "_entered", side_effect=KeyboardInterrupt), self.assertRaises(KeyboardInterrupt):
            self.assets.add(wav(sine(99.0, 0.02)), "late.wav")
        self.assertEqual((len(self.files()), len(self.under_way())), (2, 1))
        self.assets = Assets(self.database, self.assets.folder)
        self.assertEqual((self.files(), self.under_way()), ([kept.asset], []))

    def test_it_ends_before_the_file_has_gone(self):
        kept, gone = self.bring("kept"), self.bring("gone")
        self.sounds.remove(gone.id)
        with mock.patch("pathlib.Path.unlink", side_effect=KeyboardInterrupt), self.assertRaises(KeyboardInterrupt):
            self.assets.delete_unused(gone.asset)
        self.assertEqual(len(self.files()), 2)
        self.assets = Assets(self.database, self.assets.folder)
        self.assertEqual((self.files(), self.under_way()), ([kept.asset], []))

    def test_what_came_and_went_is_under_way_no_longer(self):
        entry = self.bring("post")
        self.assertEqual(self.under_way(), [])
        self.sounds.remove(entry.id)
        self.assets.delete_unused(entry.asset)
        self.assertEqual((self.files(), self.under_way()), ([], []))

    def test_one_that_is_there_again_meanwhile_stays(self):
        entry = self.bring("post")
        with self.database.transaction() as connection:
            connection.execute("INSERT INTO files_under_way VALUES (?)", (f"{entry.asset}.wav",))
        self.assets = Assets(self.database, self.assets.folder)
        self.assertEqual((self.files(), self.under_way()), ([entry.asset], []))
