import errno
import sqlite3
import tempfile
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from unittest import mock

from apilado.actions.workspace import Workspace
from apilado.core.document.edits import apply
from apilado.core.document.edits_values import SetValue
from apilado.demo.stacks import rope_walk, slipway
from apilado.errors import FutureVersion, NotFound, StorageFault, UnreadableFile
from apilado.store.assets import Assets, write_whole
from apilado.store.database import Database, migrate, migrations, statements
from apilado.store.stacks import Readings, Stacks, Step, Unreadable
from tests.support import sha256, sine, wav

STACK = slipway().stack


def named(name):
    return STACK.model_copy(update={"name": name})


def step(name, title=None, gesture=None):
    return Step(named(name), title or name, gesture)


class StoreCase(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.open()
        self.addCleanup(self.database.close)

    def open(self):
        self.database = Database(self.folder / "test.sqlite3")
        self.stacks = Stacks(self.database)

    def reopen(self):
        self.database.close()
        self.open()


class StacksTest(StoreCase):
    def test_undo_and_redo_survive_a_restart(self):
        first = self.stacks.create(named("one"))
        second = self.stacks.append(first.stack_id, first.id, step("two", "Rename to two"))
        self.assertEqual((second.stack.name, second.undo_title, second.redo_title), ("two", "Rename to two", None))
        self.reopen()
        back = self.stacks.undo(first.stack_id).revision
        self.assertEqual((back.stack.name, back.undo_title, back.redo_title), ("one", None, "Rename to two"))
        self.reopen()
        self.assertEqual(self.stacks.redo(first.stack_id).revision.stack.name, "two")
        self.assertEqual(self.stacks.redo(first.stack_id).revision.stack.name, "two")
        self.stacks.undo(first.stack_id)
        self.assertEqual(self.stacks.undo(first.stack_id).revision.stack.name, "one")

    def test_what_was_written_is_not_read_again(self):
        first = self.stacks.create(named("one"))
        new = step("two")
        self.assertIs(self.stacks.append(first.stack_id, first.id, new).stack, new.stack)
        self.assertIs(self.stacks.head(first.stack_id).stack, new.stack)
        with mock.patch("apilado.store.stacks.READINGS", Readings(2)):  # as after a restart
            read = self.stacks.head(first.stack_id).stack
            self.assertIsNot(read, new.stack)
            self.assertEqual(read, new.stack)
            self.assertIs(self.stacks.head(first.stack_id).stack, read)
            for name in ("three", "four"):
                self.stacks.append(first.stack_id, self.stacks.head_id(first.stack_id), step(name))
            self.stacks.undo(first.stack_id)
            self.assertIsNot(self.stacks.undo(first.stack_id).revision.stack, read)  # too long ago

    def test_an_edit_after_undo_begins_a_branch(self):
        first = self.stacks.create(named("one"))
        self.stacks.append(first.stack_id, first.id, step("two"))
        back = self.stacks.undo(first.stack_id).revision
        self.stacks.append(first.stack_id, back.id, step("three"))
        self.assertIsNone(self.stacks.head(first.stack_id).redo_title)
        self.stacks.undo(first.stack_id)
        self.assertEqual(self.stacks.redo(first.stack_id).revision.stack.name, "three")

    def test_a_stale_head_changes_nothing(self):
        first = self.stacks.create(named("one"))
        self.stacks.append(first.stack_id, first.id, step("two"))
        self.assertIsNone(self.stacks.append(first.stack_id, first.id, step("late")))
        self.assertEqual(self.stacks.head(first.stack_id).stack.name, "two")

    def test_steps_replace_others(self):
        head = self.stacks.create(named("one"))
        for name in ("a", "b"):
            head = self.stacks.append(head.stack_id, head.id, step(name))
        head = self.stacks.append(head.stack_id, head.id, step("c"), step("d"), instead_of=2)
        walked = [head.stack.name] + [self.stacks.undo(head.stack_id).revision.stack.name for _ in range(2)]
        self.assertEqual(walked, ["d", "c", "one"])
        with self.database.transaction() as connection:
            kept = [row[0] for row in connection.execute("SELECT title FROM revisions ORDER BY id")]
        self.assertEqual(kept[1:], ["c", "d"])

    def test_a_document_that_cannot_be_read_hides_no_other(self):
        one, two = self.stacks.create(named("one")), self.stacks.create(named("two"))
        with self.database.transaction() as connection:
            connection.execute(
                "UPDATE revisions SET document = ? WHERE id = ?", ('{"name": "one", "format": "?"}', one.id)
            )
        self.assertEqual([item.stack.name for item in self.stacks.listed()], ["two"])
        broken = next(item for item in self.stacks.shelved() if isinstance(item, Unreadable))
        self.assertEqual((broken.id, broken.name), (one.stack_id, "one"))
        self.assertIn("'apilado-stack'", broken.fault)
        self.assertIn('"format": "?"', self.stacks.raw(one.stack_id))
        self.stacks.delete(one.stack_id)
        self.assertEqual([item.id for item in self.stacks.shelved()], [two.stack_id])

    def test_numbers_that_no_stack_can_have(self):
        for stack_id in (0, -1, 2**63, 10**30):
            for call in (self.stacks.head, self.stacks.head_id, self.stacks.delete, self.stacks.restore):
                with self.assertRaisesRegex(NotFound, "there is no stack"):
                    call(stack_id)

    def test_delete_and_restore(self):
        one, two = self.stacks.create(named("one")), self.stacks.create(named("two"))
        self.stacks.delete(one.stack_id)
        self.assertEqual([listed.stack.name for listed in self.stacks.listed()], ["two"])
        for call in (self.stacks.head, self.stacks.delete, self.stacks.undo):
            with self.assertRaisesRegex(NotFound, f"there is no stack {one.stack_id}"):
                call(one.stack_id)
        self.stacks.restore(one.stack_id)
        self.assertEqual(len(self.stacks.listed()), 2)
        with self.assertRaises(NotFound):
            self.stacks.restore(two.stack_id)

    def test_checks_are_kept_for_one_engine(self):
        head = self.stacks.create(named("one"))
        self.stacks.keep_check(head.id, "1", 2, 3, "{}")
        self.assertEqual(self.stacks.check(head.id, "1"), (2, 3, "{}"))
        self.assertIsNone(self.stacks.check(head.id, "2"))
        self.stacks.keep_check(999, "1", 0, 0, "{}")
        self.assertIsNone(self.stacks.check(999, "1"))


class DatabaseTest(StoreCase):
    def test_settings_of_the_file(self):
        with self.database.transaction() as connection:
            self.assertEqual(connection.execute("PRAGMA foreign_keys").fetchone()[0], 1)
            self.assertEqual(connection.execute("PRAGMA journal_mode").fetchone()[0], "wal")
            # 2 is FULL (SQLite's documentation): a commit that was acknowledged is on the disk.
            self.assertEqual(connection.execute("PRAGMA synchronous").fetchone()[0], 2)
            with self.assertRaises(sqlite3.IntegrityError):
                connection.execute("INSERT INTO revisions (stack, title, document) VALUES (77, 'x', '{}')")

    def test_reading_waits_for_no_writer(self):
        self.stacks.create(named("one"))
        other = sqlite3.connect(self.folder / "test.sqlite3", isolation_level=None)
        other.execute("BEGIN IMMEDIATE")
        self.assertEqual([item.stack.name for item in self.stacks.listed()], ["one"])
        self.database._connection.execute("PRAGMA busy_timeout = 50")
        with self.assertRaisesRegex(StorageFault, "another program is writing to"):
            self.stacks.create(named("two"))
        other.execute("ROLLBACK")
        other.close()
        self.stacks.create(named("two"))

    def test_what_is_no_database_is_told_in_a_sentence(self):
        for content in (b"hello, this is no database at all", b"SQLite format 3\0" + bytes(3000)):
            path = self.folder / "broken.sqlite3"
            path.write_bytes(content)
            with self.assertRaisesRegex(StorageFault, "cannot be read as a database"):
                Database(path)
        cut = self.folder / "cut.sqlite3"
        self.stacks.create(named("one"))
        with self.database._lock:
            self.database._connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        cut.write_bytes((self.folder / "test.sqlite3").read_bytes()[:6000])
        with self.assertRaisesRegex(StorageFault, "cannot be read as a database"):
            Stacks(Database(cut)).listed()

    def test_a_full_disk_is_told_and_changes_nothing(self):
        head = self.stacks.create(named("one"))
        with self.database._lock:
            pages = self.database._connection.execute("PRAGMA page_count").fetchone()[0]
            self.database._connection.execute(f"PRAGMA max_page_count = {pages}")
        with self.assertRaisesRegex(StorageFault, "no room left on the disk"):
            for _ in range(400):
                head = self.stacks.append(head.stack_id, head.id, step("two"))
        self.assertIn(self.stacks.head(head.stack_id).stack.name, ("one", "two"))

    def test_a_transaction_rolls_back(self):
        head = self.stacks.create(named("one"))
        with self.assertRaises(RuntimeError), self.database.transaction() as connection:
            connection.execute("DELETE FROM stacks")
            raise RuntimeError
        self.assertEqual(self.stacks.head(head.stack_id).stack.name, "one")

    def test_migrations_run_once_and_a_newer_file_is_refused(self):
        with self.database.transaction() as connection:
            migrate(connection)
            count = connection.execute("SELECT count(*) FROM migrations").fetchone()[0]
            self.assertEqual(count, len(migrations()))
            connection.execute("INSERT INTO migrations (number) VALUES (999)")
        self.database.close()
        with self.assertRaisesRegex(FutureVersion, "migration 999"):
            self.open()
        self.database = Database(self.folder / "other.sqlite3")

    def test_statements(self):
        script = "CREATE TABLE a (x TEXT DEFAULT ';');\n-- note\nCREATE TABLE b (y);\n"
        self.assertEqual(len(list(statements(script))), 2)


class FolderLockTest(unittest.TestCase):
    def test_one_process_at_a_time(self):
        with tempfile.TemporaryDirectory() as folder:
            held = Workspace(Path(folder))
            kept = held.deliveries / "kept.zip"
            kept.write_bytes(b"a delivery of the first")
            with self.assertRaisesRegex(StorageFault, r"is open in another Apilado \(process \d+\): close that one"):
                Workspace(Path(folder))
            self.assertTrue(kept.exists())
            held.close()
            Workspace(Path(folder)).close()
            self.assertFalse(kept.exists())


class AssetsTest(StoreCase):
    def test_many_at_once_bring_the_same_file(self):
        assets = Assets(self.database, self.folder / "assets")
        content = wav(sine(100.0, 0.3))
        with ThreadPoolExecutor(8) as pool:
            found = list(pool.map(lambda n: assets.add(content, f"{n}.wav").sha256, range(40)))
        self.assertEqual(set(found), {sha256(content)})
        self.assertEqual([path.name for path in assets.folder.iterdir()], [f"{sha256(content)}.wav"])

    def test_no_room_leaves_no_part_behind(self):
        target = self.folder / "a.wav"
        full = OSError(errno.ENOSPC, "No space left on device")
        with mock.patch("os.fsync", side_effect=full), self.assertRaisesRegex(StorageFault, "no room left on the disk"):
            write_whole(target, b"content")
        self.assertEqual([p.name for p in self.folder.iterdir() if "a.wav" in p.name], [])

    def test_a_file_that_has_gone_is_told(self):
        assets = Assets(self.database, self.folder / "assets")
        content = wav(sine(100.0, 0.1))
        asset = assets.add(content, "a.wav")
        next(assets.folder.iterdir()).unlink()
        with self.assertRaisesRegex(StorageFault, "cannot be read: No such file or directory. Put it back into"):
            assets.get(asset.sha256)

    def test_kept_once_and_read_back(self):
        assets = Assets(self.database, self.folder / "assets")
        content = wav(sine(100.0, 0.1))
        for name in ("a.wav", "b.wav"):
            self.assertEqual(assets.add(content, name).sha256, sha256(content))
        self.assertEqual(len(list((self.folder / "assets").iterdir())), 1)
        self.assertEqual(assets.get(sha256(content)).content, content)
        self.assertEqual(assets.load(sha256(content), 96000).shape, (2, 9600))

    def test_what_cannot_be_read_leaves_nothing_behind(self):
        assets = Assets(self.database, self.folder / "assets")
        with self.assertRaises(UnreadableFile):
            assets.add(wav(sine(100.0, 0.1))[:500], "cut.wav")
        self.assertEqual(list((self.folder / "assets").iterdir()), [])
        with self.assertRaisesRegex(NotFound, "there is no asset"):
            assets.get("0" * 64)

    def test_half_written_files_go_at_the_next_start(self):
        (self.folder / "assets").mkdir()
        (self.folder / "assets" / "half.wav.part").write_bytes(b"half")
        Assets(self.database, self.folder / "assets")
        self.assertEqual(list((self.folder / "assets").iterdir()), [])

    def test_write_whole_replaces(self):
        path = self.folder / "file"
        write_whole(path, b"one")
        write_whole(path, b"two")
        self.assertEqual((path.read_bytes(), sorted(p.name for p in self.folder.glob("file*"))), (b"two", ["file"]))


class DocumentsTest(StoreCase):
    def test_documents_come_back_as_they_went(self):
        stack = apply(rope_walk().stack, SetValue(path="name", value="Ümlaut → ‘quoted’ <b>"))
        head = self.stacks.create(stack)
        self.reopen()
        self.assertEqual(self.stacks.head(head.stack_id).stack, stack)
