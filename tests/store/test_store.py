import sqlite3
import tempfile
import unittest
from pathlib import Path

from apilado.core.document.edits import apply
from apilado.core.document.edits_values import SetValue
from apilado.demo.stacks import rope_walk, slipway
from apilado.errors import FutureVersion, NotFound, UnreadableFile
from apilado.store.assets import Assets, write_whole
from apilado.store.database import Database, migrate, migrations, statements
from apilado.store.stacks import Stacks
from tests.support import sha256, sine, wav

STACK = slipway().stack


def named(name):
    return STACK.model_copy(update={"name": name})


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
        second = self.stacks.append(first.stack_id, first.id, named("two"), "Rename to two")
        self.assertEqual((second.stack.name, second.undo_title, second.redo_title), ("two", "Rename to two", None))
        self.reopen()
        back = self.stacks.undo(first.stack_id)
        self.assertEqual((back.stack.name, back.undo_title, back.redo_title), ("one", None, "Rename to two"))
        self.reopen()
        self.assertEqual(self.stacks.redo(first.stack_id).stack.name, "two")
        self.assertEqual(self.stacks.redo(first.stack_id).stack.name, "two")
        self.stacks.undo(first.stack_id)
        self.assertEqual(self.stacks.undo(first.stack_id).stack.name, "one")

    def test_an_edit_after_undo_begins_a_branch(self):
        first = self.stacks.create(named("one"))
        self.stacks.append(first.stack_id, first.id, named("two"), "two")
        back = self.stacks.undo(first.stack_id)
        self.stacks.append(first.stack_id, back.id, named("three"), "three")
        self.assertIsNone(self.stacks.head(first.stack_id).redo_title)
        self.stacks.undo(first.stack_id)
        self.assertEqual(self.stacks.redo(first.stack_id).stack.name, "three")

    def test_a_stale_head_changes_nothing(self):
        first = self.stacks.create(named("one"))
        self.stacks.append(first.stack_id, first.id, named("two"), "two")
        self.assertIsNone(self.stacks.append(first.stack_id, first.id, named("late"), "late"))
        self.assertEqual(self.stacks.head(first.stack_id).stack.name, "two")

    def test_a_gesture_is_one_step(self):
        head = self.stacks.create(named("one"))
        for name in ("a", "b", "c"):
            head = self.stacks.append(head.stack_id, head.id, named(name), name, gesture="drag")
        head = self.stacks.append(head.stack_id, head.id, named("d"), "d", gesture="another")
        self.assertEqual(self.stacks.undo(head.stack_id).stack.name, "c")
        self.assertEqual(self.stacks.undo(head.stack_id).stack.name, "one")
        with self.database.transaction() as connection:
            kept = [row[0] for row in connection.execute("SELECT title FROM revisions ORDER BY id")]
        # The steps of the drag that it went through are gone: only where it came to is kept.
        self.assertEqual(kept[1:], ["c", "d"])

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


class AssetsTest(StoreCase):
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
