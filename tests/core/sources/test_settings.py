"""Settings of a tone: versions that are kept, and what lies between them."""

import unittest

import numpy as np
from numpy.testing import assert_allclose
from pydantic import ValidationError

from apilado.core.document.edits import apply
from apilado.core.document.edits_layers import AddLayer
from apilado.core.document.edits_values import AddPart, RemovePart, SetValue
from apilado.core.document.movement import Movement, Target
from apilado.core.document.settings import KeepSetting, TakeSetting
from apilado.core.document.stack import Stack
from apilado.core.sources.wave import Modulation, Tone
from apilado.errors import InvalidEdit
from tests.core.sources.test_modulation import stack_of
from tests.support import ENGINE, graph_of

SOURCE = "layers/a/source"


def sound(stack, layer="a"):
    (found,) = ENGINE.run([graph_of(stack).sources[layer]])
    return found[0]


def two_settings():
    """A tone that is a modulated sine as it stands, and was a saw an octave higher."""
    stack = stack_of(
        Tone(id="p", shape="sine", into=(Modulation(id="m", wave="c", index=1.0),)),
        Tone(id="c", shape="saw", octave=1),
    )
    stack = apply(stack, KeepSetting(path=SOURCE, id="s"))
    for path, value in (("tones/c/shape", "sine"), ("tones/c/octave", 0), ("tones/p/into/m/index", 3.0)):
        stack = apply(stack, SetValue(path=f"{SOURCE}/{path}", value=value))
    return stack


class SettingsTest(unittest.TestCase):
    def test_at_its_place_it_is_the_tone_as_it_was_and_between_both_in_shares(self):
        stack = two_settings()
        now = sound(stack)
        was = sound(apply(stack, TakeSetting(path=f"{SOURCE}/settings/s")))
        self.assertGreater(np.abs(now - was).max(), 0.3)
        assert_allclose(sound(apply(stack, SetValue(path=f"{SOURCE}/at_setting", value=1.0))), was, atol=1e-6)
        half = sound(apply(stack, SetValue(path=f"{SOURCE}/at_setting", value=0.25)))
        assert_allclose(half, 0.75 * now + 0.25 * was, atol=1e-5)

    def test_the_place_moves_and_beyond_the_last_is_the_last(self):
        stack = two_settings()
        now, was = sound(stack), sound(apply(stack, SetValue(path=f"{SOURCE}/at_setting", value=1.0)))
        target = Target(id="t", path=f"{SOURCE}/at_setting", travel=1.0)
        walk = Movement(id="m", begins="once", length_beats=4.0, targets=(target,))
        moved = sound(Stack.model_validate({**stack.model_dump(), "movements": [walk.model_dump()]}))
        shares = (moved - now) / np.where(np.abs(was - now) > 0.05, was - now, np.nan)
        shares = shares[~np.isnan(shares)]
        self.assertGreater(np.ptp(shares), 0.8)
        self.assertTrue(np.all((shares > -0.01) & (shares < 1.01)))
        assert_allclose(sound(apply(stack, SetValue(path=f"{SOURCE}/at_setting", value=3.0))), was, atol=1e-6)

    def test_between_two_that_were_kept_the_tone_itself_is_not_heard(self):
        stack = apply(two_settings(), KeepSetting(path=SOURCE, id="second"))
        stack = apply(stack, SetValue(path=f"{SOURCE}/tones/c/shape", value="square"))
        ones = [sound(apply(stack, SetValue(path=f"{SOURCE}/at_setting", value=at))) for at in (1.0, 2.0)]
        half = sound(apply(stack, SetValue(path=f"{SOURCE}/at_setting", value=1.5)))
        assert_allclose(half, 0.5 * ones[0] + 0.5 * ones[1], atol=1e-5)

    def test_a_copy_shares_what_was_rendered(self):
        stack = apply(two_settings(), SetValue(path=f"{SOURCE}/at_setting", value=0.5))
        graph = graph_of(apply(stack, AddLayer(copy_of="a")))
        self.assertEqual(len({each.key for each in graph.sources.values()}), 1)

    def test_a_copy_of_the_layer_has_settings_of_its_own(self):
        stack = apply(two_settings(), AddLayer(copy_of="a"))
        copied = next(layer for layer in stack.layers if layer.id != "a")
        ids = {tone.id for tone in copied.source.tones}
        self.assertTrue(all(each.place.split("/")[1] in ids for each in copied.source.settings[0].values))
        at = SetValue(path=f"layers/{copied.id}/source/at_setting", value=1.0)
        was = sound(apply(two_settings(), SetValue(path=f"{SOURCE}/at_setting", value=1.0)))
        assert_allclose(sound(apply(stack, at), copied.id), was, atol=1e-6)

    def test_what_has_gone_is_passed_over(self):
        stack = two_settings()
        stack = apply(stack, AddPart(path=f"{SOURCE}/tones", part={"id": "x", "shape": "triangle"}))
        stack = apply(stack, RemovePart(path=f"{SOURCE}/tones/p"))
        at = apply(stack, SetValue(path=f"{SOURCE}/at_setting", value=1.0))
        self.assertGreater(np.abs(sound(at) - sound(stack)).max(), 0.2)

    def test_three_are_kept_at_most_and_none_of_what_has_no_waves(self):
        stack = two_settings()
        for _ in range(2):
            stack = apply(stack, KeepSetting(path=SOURCE))
        with self.assertRaisesRegex(InvalidEdit, "3 settings at most"):
            apply(stack, KeepSetting(path=SOURCE))

    def test_a_hostile_setting_is_refused_by_its_place(self):
        data = two_settings().model_dump()
        data["layers"][0]["source"]["settings"][0]["values"] = [{"place": "tones/c/pulse_width", "value": "wide"}]
        with self.assertRaisesRegex(ValidationError, "tones/c/pulse_width takes a number"):
            Stack.model_validate(data)
        data["layers"][0]["source"]["settings"][0]["values"] = [{"place": "tones/../x", "value": 1.0}]
        with self.assertRaises(ValidationError):
            Stack.model_validate(data)
