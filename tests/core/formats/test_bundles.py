import io
import json
import stat
import unittest
import zipfile

from apilado.core.document.cast import Cast
from apilado.core.document.reading import stack_to_json
from apilado.core.formats.bundles import Bundle, read_bundle, write_bundle
from apilado.demo.stacks import rope_walk
from apilado.demo.starts import demo_bundles
from apilado.errors import FutureVersion, InvalidDocument, UnreadableFile


def packed(files, *, link=None):
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in files:
            archive.writestr(name, content)
        if link:
            info = zipfile.ZipInfo(link)
            info.external_attr = (stat.S_IFLNK | 0o777) << 16
            archive.writestr(info, "/etc/passwd")
    return buffer.getvalue()


class BundlesTest(unittest.TestCase):
    def test_round_trip(self):
        for bundle in demo_bundles():
            content = write_bundle(bundle)
            self.assertEqual(read_bundle(content, "a.apilado"), bundle)
            self.assertEqual(write_bundle(bundle), content)

    def test_hostile_bundles_are_named(self):
        bundle = rope_walk()
        text, asset = stack_to_json(bundle.stack), bundle.assets[0]
        good = f"assets/{asset.sha256}.wav"
        future = json.loads(text) | {"version": 99}
        zeros = b"\0" * (300 << 20)
        cases = (
            (packed([("stack.json", text), ("../../evil.wav", b"x")]), "holds '../../evil.wav'"),
            (packed([("stack.json", text), ("/etc/passwd", b"x")]), "holds '/etc/passwd'"),
            (packed([("stack.json", text)], link=good), "symbolic link"),
            (packed([("stack.json", text), (good, zeros)]), "unpacks to too much|does not match its SHA-256"),
            (packed([("stack.json", b" " * (9 << 20))]), "unpacks to too much"),
            (packed([("stack.json", text)]), "lacks an asset that its stack needs"),
            (packed([("stack.json", text), (good, asset.content[:-1])]), "does not match its SHA-256"),
            (packed([("stack.json", text), (good.replace(".wav", ".exe"), b"x")]), "unknown kind, .exe"),
            (packed([("other.json", text)]), "holds 'other.json'"),
            (packed([]), "it holds no stack.json"),
            (packed([(f"assets/{index:064x}.wav", b"") for index in range(140)]), "holds 140 files"),
            (packed([("stack.json", text), (good, asset.content), ("casts/1.json", "{}")]), "holds 'casts/1.json'"),
            (b"PK\x03\x04 no zip", "is not a bundle that can be read"),
            (write_bundle(bundle)[:-200], "is not a bundle that can be read"),
        )
        for content, words in cases:
            with self.subTest(words=words), self.assertRaisesRegex(UnreadableFile, words):
                read_bundle(content, "b.apilado")
        with self.assertRaisesRegex(FutureVersion, "version 99"):
            read_bundle(packed([("stack.json", json.dumps(future))]), "b.apilado")
        with self.assertRaisesRegex(InvalidDocument, "not JSON"):
            read_bundle(packed([("stack.json", "{")]), "b.apilado")

    def test_casts_travel_with_all_that_they_need(self):
        slipway, rope = demo_bundles()[0], rope_walk()
        casts = (Cast(name="as it was", stack=slipway.stack), Cast(name="rope", judgement="too thin", stack=rope.stack))
        bundle = Bundle(slipway.stack, rope.assets, casts)
        self.assertEqual(read_bundle(write_bundle(bundle), "a.apilado"), bundle)
        with self.assertRaisesRegex(UnreadableFile, "lacks an asset"):
            read_bundle(write_bundle(Bundle(slipway.stack, (), casts)), "a.apilado")
        text = stack_to_json(slipway.stack)
        for content, words in (
            ("[]", "'casts/00.json' is not a cast"),
            ('{"name": "a"}', "this is not a stack"),
            (json.dumps({"name": "", "stack": json.loads(text)}), "'casts/00.json' is not a cast: name"),
            (json.dumps({"name": "a", "stack": json.loads(text) | {"bars": 0}}), "bars"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(InvalidDocument, words):
                read_bundle(packed([("stack.json", text), ("casts/00.json", content)]), "b.apilado")

    def test_what_the_stack_does_not_need_is_left_out(self):
        slipway, rope = demo_bundles()[0], rope_walk()
        self.assertEqual(read_bundle(write_bundle(Bundle(slipway.stack, rope.assets)), "a.apilado").assets, ())
