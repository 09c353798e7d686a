import unittest

from apilado.actions import stacks
from apilado.core.document.cast import MOST_CASTS, Cast
from apilado.core.document.edits_values import SetValue
from apilado.demo.stacks import slipway
from apilado.errors import InvalidEdit, NotFound
from apilado.store.casts import Casts
from tests.support import TemporaryWorkspace


class CastsTest(unittest.TestCase):
    def setUp(self):
        self.workspace = self.enterContext(TemporaryWorkspace())
        self.stack = slipway().stack
        self.first = self.workspace.stacks.create(self.stack)
        self.casts = self.workspace.casts

    def keep(self, name="a"):
        return self.casts.keep(self.first.stack_id, self.first.id, Cast(name=name, stack=self.stack))[0]

    def test_what_is_kept_is_there_again_after_a_restart(self):
        kept = self.keep("thin")
        self.casts.change(self.first.stack_id, kept.id, judgement="too thin on the phone")
        again = Casts(self.workspace.database)
        (listed,) = again.listed(self.first.stack_id)
        self.assertEqual(
            (listed.name, listed.judgement, listed.revision), ("thin", "too thin on the phone", self.first.id)
        )
        self.assertEqual(again.stack(self.first.stack_id, kept.id), self.stack)

    def test_no_edit_and_no_drag_reaches_it(self):
        kept = self.keep()
        for level in (-1.0, -2.0, -3.0):
            stacks.edit(
                self.workspace, self.first.stack_id, SetValue(path="layers/mid/level_db", value=level), gesture="g"
            )
        self.workspace.stacks.undo(self.first.stack_id)
        self.assertEqual(self.casts.stack(self.first.stack_id, kept.id), self.stack)

    def test_what_is_removed_can_be_put_back(self):
        kept = self.keep()
        self.casts.remove(self.first.stack_id, kept.id)
        self.assertEqual(self.casts.listed(self.first.stack_id), [])
        for gone in (
            lambda: self.casts.stack(self.first.stack_id, kept.id),
            lambda: self.casts.remove(self.first.stack_id, kept.id),
        ):
            with self.assertRaises(NotFound):
                gone()
        self.casts.put_back(self.first.stack_id, kept.id)
        self.assertEqual(self.casts.listed(self.first.stack_id), [kept])
        with self.assertRaisesRegex(NotFound, "that was removed"):
            self.casts.put_back(self.first.stack_id, kept.id)

    def test_a_cast_belongs_to_its_stack(self):
        kept, other = self.keep(), self.workspace.stacks.create(self.stack)
        for number in (kept.id, 0, 2**63, 10**30):
            with self.assertRaises(NotFound):
                self.casts.stack(other.stack_id, number)
        self.workspace.stacks.delete(self.first.stack_id)
        self.workspace.stacks.restore(self.first.stack_id)
        self.assertEqual(self.casts.listed(self.first.stack_id), [kept])

    def test_there_is_an_end_to_them(self):
        casts = [Cast(name=str(number), stack=self.stack) for number in range(MOST_CASTS)]
        self.casts.keep(self.first.stack_id, self.first.id, *casts)
        with self.assertRaisesRegex(InvalidEdit, f"at most {MOST_CASTS} casts"):
            self.keep()
        self.assertEqual(len(self.casts.all_of(self.first.stack_id)), MOST_CASTS)
        first = self.casts.listed(self.first.stack_id)[0]
        self.casts.remove(self.first.stack_id, first.id)
        self.keep()
        with self.assertRaisesRegex(InvalidEdit, "not put back"):
            self.casts.put_back(self.first.stack_id, first.id)
