"""Documents in the store: as small as what differs, and back as they were."""

import json
import unittest

import numpy as np

from apilado.core.document.reading import stack_to_compact_json
from apilado.core.notes import Note
from apilado.errors import InvalidDocument
from apilado.store import documents
from apilado.store.packing import packed, unpacked
from apilado.store.stacks import Step, Unreadable
from tests.seeded.stacks import seeded_stack, seeds
from tests.store.test_store import STACK, StoreCase, named, step


class PackingTest(unittest.TestCase):
    def test_what_is_packed_comes_back(self):
        random = np.random.default_rng(5)
        for seed in seeds(6):
            document = stack_to_compact_json(seeded_stack(seed)[0])
            other = json.dumps({"noise": random.integers(0, 10**9, 4000).tolist(), "text": "ü – ♭"})
            for base in ("", document, other, document[:200]):
                with self.subTest(seed=seed, base=len(base)):
                    self.assertEqual(unpacked(packed(document, base), base), document)

    def test_another_base_and_damage_are_told(self):
        content = packed("x" * 100 + STACK.model_dump_json(), "y" * 50)
        damaged = content[:-6] + bytes(6)
        for given, base in ((content, "z" * 50), (damaged, "y" * 50), (b"", ""), (b"\x00\xff", "")):
            with self.subTest(given=given[:8]), self.assertRaisesRegex(InvalidDocument, "store is damaged"):
                unpacked(given, base)

    def test_a_change_of_one_value_is_small(self):
        document = stack_to_compact_json(STACK)
        self.assertLess(len(packed(document.replace('"tempo_bpm":126', '"tempo_bpm":127'), document)), 120)

    def test_so_it_is_in_a_long_document_wherever_it_lies(self):
        notes = tuple(
            Note(start_beats=n / 16, length_beats=0.06, pitch=30 + n % 40, velocity=1 + n % 120) for n in range(4000)
        )
        document = stack_to_compact_json(STACK.model_copy(update={"pattern": notes}))
        self.assertGreater(len(document), 250_000)
        first, last = document.index('"pitch":31'), document.rindex('"pitch":31')
        for changed in (
            document.replace('"tempo_bpm":126', '"tempo_bpm":127'),
            document[:first] + '"pitch":99' + document[first + 10 :],
            document[:last] + '"pitch":99' + document[last + 10 :],
            document.replace('"pattern":[', '"pattern":[' + notes[5].model_dump_json() + ","),
            document.replace(notes[7].model_dump_json() + ",", ""),
        ):
            content = packed(changed, document)
            self.assertEqual(unpacked(content, document), changed)
            self.assertLess(len(content), 3000)


class DocumentsTest(StoreCase):
    def rows(self, query):
        with self.database.reading() as connection:
            return connection.execute(query).fetchall()

    def edited(self, count):
        head = self.stacks.create(named("0"))
        for number in range(1, count):
            head = self.stacks.append(head.stack_id, head.id, step(str(number)))
        return head

    def test_alike_documents_share_a_base(self):
        head = self.edited(30)
        self.assertEqual(len(self.rows("SELECT 1 FROM bases")), 1)
        sizes = [row[0] for row in self.rows("SELECT length(document) FROM revisions")]
        self.assertLess(max(sizes), 120)
        names = []
        while head.undo_title is not None:
            names.append(head.stack.name)
            head = self.stacks.undo(head.stack_id).revision
        self.assertEqual(names, [str(number) for number in range(29, 0, -1)])

    def test_another_document_gets_a_base_of_its_own(self):
        head = self.edited(3)
        random = np.random.default_rng(1)
        pitches = random.integers(20, 60, 80)
        notes = tuple(Note(start_beats=n / 7, length_beats=0.1, pitch=int(pitch)) for n, pitch in enumerate(pitches))
        other = STACK.model_copy(update={"pattern": notes, "name": "other"})
        self.stacks.append(head.stack_id, head.id, Step(other, "Notes"))
        self.assertEqual(len(self.rows("SELECT 1 FROM bases")), 2)
        self.assertEqual(self.stacks.head(head.stack_id).stack, other)

    def test_bases_that_nothing_needs_go(self):
        head = self.edited(2)
        with self.database.transaction() as connection:
            connection.execute("INSERT INTO bases (document) VALUES (?)", (packed("idle"),))
            self.assertEqual(documents.drop_idle_bases(connection), 1)
        self.assertEqual(self.stacks.head(head.stack_id).stack.name, "1")

    def test_plain_documents_of_before_are_read_and_packed(self):
        head = self.edited(4)
        plain = {str(number): named(str(number)).model_dump_json() for number in range(4)}
        with self.database.transaction() as connection:
            for name, document in plain.items():
                title = "New stack" if name == "0" else name
                connection.execute("UPDATE revisions SET document = ?, base = NULL WHERE title = ?", (document, title))
            documents.drop_idle_bases(connection)
        self.assertEqual(self.stacks.head(head.stack_id).stack.name, "3")
        with self.database.transaction() as connection:
            self.assertEqual([documents.pack_plain(connection, 3), documents.pack_plain(connection, 3)], [3, 1])
        self.assertEqual(len(self.rows("SELECT 1 FROM bases")), 1)
        for number in (3, 2, 1, 0):
            self.assertEqual(self.stacks.head(head.stack_id).stack.name, str(number))
            self.stacks.undo(head.stack_id)

    def test_a_damaged_base_hides_one_stack(self):
        self.edited(2)
        other = self.stacks.create(STACK.model_copy(update={"name": "whole"}))
        with self.database.transaction() as connection:
            connection.execute("UPDATE bases SET document = ? WHERE id = 1", (b"damaged",))
        shelved = self.stacks.shelved()
        self.assertEqual({item.id for item in shelved if isinstance(item, Unreadable)}, {1})
        self.assertEqual([item.stack.name for item in self.stacks.listed()], ["whole"])
        self.assertEqual((self.stacks.name(1), self.stacks.name(other.stack_id)), ("Stack 1", "whole"))
