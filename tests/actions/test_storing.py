"""A data folder: what is found in it, what can be mended, one file of everything and back."""

import json
import shutil
import sqlite3
import unittest
import zipfile
from contextlib import closing
from pathlib import Path
from time import monotonic
from unittest import mock

from apilado.actions import storing
from apilado.actions.storing import Housekeeper, backup, mend, restore
from apilado.actions.workspace import DATABASE_NAME, Workspace
from apilado.core.document.cast import Cast
from apilado.demo.stacks import slipway
from apilado.errors import StorageFault, UnreadableFile
from apilado.store.examining import examine
from apilado.store.sounds import Filters
from tests.store.test_sounds import playing
from tests.support import TemporaryWorkspace, sha256, sine, wav


class StoreCase(unittest.TestCase):
    def setUp(self):
        self.workspace = self.enterContext(TemporaryWorkspace())
        self.folder = self.workspace.folder
        self.asset = self.workspace.assets.add(wav(sine(50.0, 0.1)), "post.wav")
        self.other = self.workspace.assets.add(wav(sine(60.0, 0.1)), "gate.wav")
        self.revision = self.workspace.stacks.create(playing(self.asset.sha256))
        stack_id, number = self.revision.stack_id, self.revision.id
        self.workspace.casts.keep(stack_id, number, Cast(name="then", stack=playing(self.asset.sha256)))
        self.workspace.stacks.create(slipway().stack)

    def examined(self, **options):
        return examine(self.folder, DATABASE_NAME, **options)

    def kinds(self, **options):
        return sorted(fault.kind for fault in self.examined(**options).faults)

    def reopen(self):
        self.workspace.__init__(self.folder)

    def write(self, statement, *values):
        with self.workspace.database.transaction() as connection:
            connection.execute(statement, values)


class ExaminedTest(StoreCase):
    def test_what_is_there(self):
        found = self.examined(every=True)
        counts = {"stacks": 2, "casts": 1, "sounds": 2, "unused sounds": 1, "audio files": 2, "steps of undo": 2}
        self.assertEqual({name: found.counts[name] for name in counts}, counts)
        sizes = [len(asset.content) for asset in (self.asset, self.other)]
        self.assertEqual((found.bytes["audio"], found.bytes["unused audio"]), (sum(sizes), sizes[1]))
        self.assertEqual(found.faults, [])
        self.assertEqual(json.loads(json.dumps(found.as_data()))["faults"], [])

    def test_each_fault_is_found(self):
        asset = self.folder / "assets" / f"{self.asset.sha256}.wav"
        content = asset.read_bytes()
        cases = (
            ("missing audio", asset.unlink, lambda: asset.write_bytes(content)),
            ("damaged audio", lambda: asset.write_bytes(content[:-1] + b"x"), lambda: asset.write_bytes(content)),
            ("part file", lambda: (asset.parent / "x.wav.1234.part").write_bytes(b"x"), lambda: None),
            ("stray delivery", lambda: (self.folder / "deliveries" / "9.zip").write_bytes(b"x"), lambda: None),
        )
        for kind, harm, undo in cases:
            with self.subTest(kind):
                harm()
                self.assertIn(kind, self.kinds())
                undo()
        revision = self.revision.id
        for kind, statement in (
            ("uses", "DELETE FROM revision_sounds"),
            ("document", f"UPDATE revisions SET document = x'00' WHERE id = {revision}"),
            ("words", "DELETE FROM sounds_words_docsize"),
            ("database", "PRAGMA foreign_keys"),
        ):
            with self.subTest(kind):
                if kind == "database":
                    with closing(sqlite3.connect(self.folder / DATABASE_NAME)) as connection:
                        connection.execute(
                            "INSERT INTO casts (stack, name, document, revision) VALUES (99, 'x', '{}', 1)"
                        )
                        connection.commit()
                else:
                    self.write(statement)
                self.assertIn(kind, self.kinds())

    def test_it_reads_beside_a_program_that_writes(self):
        with self.workspace.database.transaction() as connection:
            connection.execute("UPDATE sounds SET name = 'held'")
            self.assertEqual(self.kinds(), [])

    def test_where_there_is_none(self):
        with self.assertRaisesRegex(StorageFault, "there is no store at"):
            examine(self.folder / "nowhere", DATABASE_NAME)
        with self.assertRaisesRegex(StorageFault, "there is no store at"):
            mend(self.folder / "nowhere")
        self.assertFalse((self.folder / "nowhere").exists())
        (self.folder / "other.sqlite3").write_bytes(b"no database" * 200)
        with self.assertRaisesRegex(StorageFault, "cannot be read as a database"):
            examine(self.folder, "other.sqlite3")


class MendedTest(StoreCase):
    def test_what_can_be_mended_is(self):
        found = self.workspace.assets.add(wav(sine(70.0, 0.1)), "lost.wav")
        self.write("DELETE FROM sounds WHERE asset = ?", found.sha256)
        self.write("DELETE FROM assets WHERE sha256 = ?", found.sha256)  # its file is left
        self.write("DELETE FROM revision_sounds")
        self.write("DELETE FROM cast_sounds")
        self.write("DELETE FROM sounds WHERE asset = ?", self.other.sha256)
        (self.folder / "assets" / "x.wav.1234.part").write_bytes(b"x")
        self.assertEqual(self.kinds(), ["entry", "part file", "stray file", "uses", "uses"])
        self.workspace.close()
        mended, after = mend(self.folder)
        self.assertEqual(after.faults, [])
        # The part file goes when the folder is opened.
        self.assertEqual(sorted(fault.kind for fault in mended), ["entry", "stray file", "uses", "uses"])
        self.reopen()
        names = [entry.name for entry in self.workspace.sounds.found(Filters()).entries]
        self.assertEqual(sorted(names), ["found " + found.sha256[:12], "gate", "post"])
        self.assertEqual(len(self.workspace.sounds.uses(1)), 1)

    def test_what_cannot_be_mended_stays_and_is_told(self):
        stranger = self.folder / "assets" / "notes.txt"
        stranger.write_text("mine")
        (self.folder / "assets" / f"{self.asset.sha256}.wav").unlink()
        self.workspace.close()
        mended, after = mend(self.folder)
        self.assertEqual((mended, sorted(fault.kind for fault in after.faults)), ([], ["missing audio", "stray file"]))
        self.assertEqual(stranger.read_text(), "mine")
        self.reopen()


class BackupTest(StoreCase):
    def test_there_and_back(self):
        out, again = self.folder.parent / "all.zip", self.folder.parent / "again"
        done = backup(self.folder, out)  # the workspace is open meanwhile
        self.assertEqual((done.files, done.missing, done.bytes), (2, (), out.stat().st_size))
        found = restore(out, again)
        self.assertEqual((found.faults, found.counts["stacks"]), ([], 2))
        restored = Workspace(again)
        self.addCleanup(restored.close)
        for stack_id in (1, 2):
            self.assertEqual(restored.stacks.head(stack_id).stack, self.workspace.stacks.head(stack_id).stack)
        self.assertEqual(restored.assets.get(self.asset.sha256).content, self.asset.content)
        self.assertEqual([each.name for each in self.folder.parent.iterdir() if "part" in each.name], [])

    def test_nothing_is_written_over(self):
        out = self.folder.parent / "all.zip"
        backup(self.folder, out)
        with self.assertRaisesRegex(StorageFault, "holds something already: nothing was restored"):
            restore(out, self.folder)
        empty = self.folder.parent / "empty"
        empty.mkdir()
        self.assertEqual(restore(out, empty).counts["stacks"], 2)

    def test_hostile_and_damaged_backups(self):
        out, where = self.folder.parent / "all.zip", self.folder.parent / "there"
        backup(self.folder, out)
        whole = out.read_bytes()

        def changed(change):
            path = self.folder.parent / f"changed-{len(list(self.folder.parent.iterdir()))}.zip"
            with zipfile.ZipFile(out) as source, zipfile.ZipFile(path, "w") as target:
                for name, content in change({name: source.read(name) for name in source.namelist()}).items():
                    target.writestr(name, content)
            return path

        asset = f"assets/{self.asset.sha256}.wav"
        broken = self.folder.parent / "broken.zip"
        broken.write_bytes(whole[: len(whole) // 2])
        for path, said in (
            (broken, "is no backup that can be read"),
            (changed(lambda held: {"x.txt": b""}), "is no backup of Apilado"),
            (changed(lambda held: {**held, "../evil.txt": b"x"}), r"it holds '\.\./evil.txt'"),
            (changed(lambda held: {**held, "assets/evil.sh": b"x"}), "it holds 'assets/evil.sh'"),
            (changed(lambda held: {**held, asset: b"other"}), "is damaged: audio"),
            (
                changed(lambda held: {**held, DATABASE_NAME: b"no database" * 100}),
                "is damaged: its database cannot be read",
            ),
        ):
            with self.subTest(said), self.assertRaisesRegex((UnreadableFile, StorageFault), said):
                restore(path, where)
            left = [each.name for each in self.folder.parent.iterdir()]
            self.assertFalse(where.exists() or any(storing.RESTORING in name for name in left), left)

    def test_audio_that_has_gone_is_told(self):
        (self.folder / "assets" / f"{self.other.sha256}.wav").unlink()
        done = backup(self.folder, self.folder.parent / "all.zip")
        self.assertEqual((done.files, done.missing), (1, (f"{self.other.sha256}.wav",)))

    def test_audio_that_is_cleared_meanwhile_is_not_missed(self):
        self.workspace.sounds.remove(self.workspace.sounds.of_asset(self.other.sha256).id)
        archived, cleared = storing._archived, []

        def later(*given):
            cleared.append(self.workspace.assets.delete_unused(self.other.sha256))
            return archived(*given)

        with mock.patch.object(storing, "_archived", later):
            done = backup(self.folder, self.folder.parent / "all.zip")
        self.assertEqual((cleared, done.files, done.missing), ([True, False], 1, ()))
        self.assertEqual(restore(self.folder.parent / "all.zip", self.folder.parent / "again").faults, [])

    def test_deliveries_stay_behind(self):
        head = self.workspace.stacks.head(2)
        number = self.workspace.jobs.begin("deliver", 2, head.id, head.stack, "Deliver 1 file", {})
        self.workspace.jobs.end(number, "done", "All files are written.", {"bytes": 1})
        backup(self.folder, self.folder.parent / "all.zip")
        found = restore(self.folder.parent / "all.zip", self.folder.parent / "again")
        self.assertEqual((found.faults, found.counts["deliveries"]), ([], 0))


class IdleTest(StoreCase):
    def test_it_is_tidied_once_when_nobody_works(self):
        keeper = Housekeeper(self.workspace, 90)
        self.assertEqual(keeper.tidy_if_idle(0.0), (None, 0.0))
        self.workspace.database.written_at = monotonic() - storing.IDLE_S - 1.0
        done, at = keeper.tidy_if_idle(0.0)
        self.assertIsNotNone(done)
        self.workspace.database.written_at = at = at - storing.IDLE_S - 1.0
        self.assertEqual(keeper.tidy_if_idle(at), (None, at), "nothing was written since")

    def test_it_ends(self):
        keeper = Housekeeper(self.workspace, 90)
        keeper.start()
        keeper.stop()
        keeper.stop()


class MigrationTest(StoreCase):
    def test_a_store_of_before_is_taken_over(self):
        """As version 0.13 left it: documents as they are, no entries, no jobs."""
        database = self.folder.parent / "old" / DATABASE_NAME
        database.parent.mkdir()
        document = playing(self.asset.sha256, "old").model_copy(update={"name": "old"}).model_dump_json()
        with closing(sqlite3.connect(database)) as connection:
            folder = Path(storing.__file__).parents[1] / "store" / "migrations"
            connection.execute("CREATE TABLE migrations (number INTEGER PRIMARY KEY)")
            for number in (1, 2, 3):
                connection.executescript(next(folder.glob(f"000{number}_*.sql")).read_text())
                connection.execute("INSERT INTO migrations VALUES (?)", (number,))
            size = len(self.asset.content)
            connection.execute(
                "INSERT INTO assets (sha256, extension, file_name, bytes) VALUES (?, 'wav', 'old take.wav', ?)",
                (self.asset.sha256, size),
            )
            connection.execute("INSERT INTO stacks (id, head) VALUES (1, NULL)")
            connection.execute(
                "INSERT INTO revisions (id, stack, title, document) VALUES (1, 1, 'New stack', ?)", (document,)
            )
            connection.execute("UPDATE stacks SET head = 1")
            connection.commit()
        shutil.copytree(self.folder / "assets", database.parent / "assets")
        (database.parent / "assets" / f"{self.other.sha256}.wav").unlink()
        workspace = Workspace(database.parent)
        self.addCleanup(workspace.close)
        self.assertEqual(workspace.stacks.head(1).stack.name, "old")
        (entry,) = workspace.sounds.found(Filters(words="old")).entries
        self.assertEqual((entry.name, entry.asset), ("old take.wav", sha256(self.asset.content)))
        self.assertEqual([use.stack for use in workspace.sounds.uses(entry.id)], [1])
        self.assertEqual(examine(database.parent, DATABASE_NAME).faults, [])
