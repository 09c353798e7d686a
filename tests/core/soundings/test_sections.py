"""What soundings say of a piece with sections: where a finding lies, and what is meant to be otherwise."""

import unittest

from apilado.core.document.edits import InSection, apply
from apilado.core.document.edits_pattern import SetBars
from apilado.core.document.edits_sections import SetSection
from apilado.core.document.edits_values import SetValue
from apilado.core.soundings.measures import measure
from apilado.core.soundings.registry import in_sections, sound
from apilado.demo.stacks import slipway
from tests.support import ENGINE, loader

PLAIN = apply(slipway().stack, SetBars(bars=4))
STACK = apply(PLAIN, SetSection(first_bar=4, last_bar=4, name="fill"))


def otherwise(path, value):
    return apply(STACK, InSection(section=STACK.sections[0].id, edit=SetValue(path=path, value=value)))


def found(stack):
    return {each.id: each for each in sound(measure(stack, loader({}), ENGINE))}


class SectionedSoundingsTest(unittest.TestCase):
    def test_a_finding_that_lies_in_a_section_says_so(self):
        loud = found(otherwise("kick/level_db", 6.0))["headroom"]
        self.assertNotEqual(loud.status, "fine")
        self.assertRegex(loud.sentence, r"^In fill, bar 4: The mix peaks at")
        self.assertTrue(12.0 <= loud.show.beats[0] < 16.0)
        self.assertNotIn("fill", found(STACK)["headroom"].sentence)

    def test_the_words(self):
        self.assertEqual(in_sections(STACK, (12.0, 15.9)), "In fill, bar 4")
        self.assertEqual(in_sections(STACK, (12.0, 3.0)), "")
        self.assertEqual(in_sections(STACK, ()), "")
        wide = apply(
            apply(PLAIN, SetSection(first_bar=1, last_bar=2, name="a")), SetSection(first_bar=4, last_bar=4, name="b")
        )
        self.assertEqual(in_sections(wide, (0.0, 4.0, 12.0)), "In a, bars 1, 2; in b, bar 4")

    def test_a_sub_that_is_quieter_or_muted_in_a_section_is_not_uneven(self):
        plain = found(STACK)["sub-even"].value
        for path, value in (("layers/sub/level_db", PLAIN.layer("sub").level_db - 9.0), ("layers/sub/mute", True)):
            self.assertAlmostEqual(found(otherwise(path, value))["sub-even"].value, plain, delta=0.15)


if __name__ == "__main__":
    unittest.main()
