import contextlib
import io
import json
import sqlite3
import subprocess
import tempfile
import time
import unittest
import urllib.error
import urllib.request
from pathlib import Path

import numpy as np
from numpy.testing import assert_allclose

from apilado import cli
from apilado.core.document.reading import stack_to_json
from apilado.core.formats.audio_files import read_audio
from apilado.demo.stacks import rope_walk
from apilado.settings import SETTINGS
from tests.server import Server
from tests.support import sine, wav


def run(*arguments):
    """(status, what was printed, what was complained)."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        status = cli.main([str(a) for a in arguments])
    return status, out.getvalue(), err.getvalue()


class FolderCase(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)


class CommandsTest(FolderCase):
    def setUp(self):
        super().setUp()
        self.assertEqual(run("demo-data", self.folder)[0], 0)

    def test_render_check_and_import(self):
        slipway = self.folder / "slipway.apilado"
        self.assertEqual(run("render", slipway, "--out", self.folder / "out", "--stems", "--bits", "32f")[0], 0)
        files = {path.name: path.read_bytes() for path in (self.folder / "out").iterdir()}
        names = ["bass", "kick", "layer-01-sub", "layer-02-mid", "layer-03-high", "mix"]
        self.assertEqual(sorted(files), sorted([f"{name}.wav" for name in names] + ["measures.json"]))
        audio = {name: read_audio(files[f"{name}.wav"], f"{name}.wav")[0].astype(np.float64) for name in names}
        assert_allclose(audio["bass"] + audio["kick"], audio["mix"], atol=1e-5)
        status, text, _ = run("check", slipway, "--json")
        self.assertEqual(status, 0)
        keys = ["id", "status", "value", "unit", "limit", "where", "sentence", "basis"]
        self.assertEqual([list(found) for found in json.loads(text)], [keys] * len(json.loads(text)))
        self.assertEqual(run("check", self.folder / "lock-gate.apilado")[0], 1)
        status, text, _ = run("import", slipway, "--data", self.folder / "data")
        self.assertEqual((status, "'Slipway' is on the shelf" in text), (0, True))

    def test_many_stacks_at_once(self):
        files = [self.folder / name for name in ("slipway.apilado", "bollard.apilado")]
        broken = self.folder / "broken.apilado"
        broken.write_bytes(b"PK\x03\x04 broken")
        out = self.folder / "out"
        status, text, complained = run(
            "render", *files, broken, "--out", out, "--jobs", 3, "--json", "--names", "{stack}-{part}"
        )
        told = json.loads(text)
        self.assertEqual((status, [list(each) for each in told.values()]), (2, [["files"], ["files"], ["error"]]))
        self.assertIn("broken.apilado", complained)
        self.assertTrue(
            (out / "slipway" / "slipway-mix.wav").is_file() and (out / "bollard" / "bollard-mix.wav").is_file()
        )
        again, _, complained = run("render", files[0], "--out", out / "slipway", "--names", "{stack}-{part}")
        self.assertEqual((again, "--force writes over them" in complained), (2, True))
        status, text, _ = run("check", *files, "--jobs", 2, "--json")
        self.assertEqual(sorted(json.loads(text)), sorted(map(str, files)))
        self.assertEqual(run("check", files[0], broken)[0], 2)
        self.assertEqual(run("check", files[0], "--jobs", 0)[0], 2)
        self.assertIn("exclude each other", run("render", files[0], "--out", out, "--peak", -1, "--loudness", -14)[2])

    def test_bounce_and_multisample(self):
        slipway, out = self.folder / "slipway.apilado", self.folder / "out"
        status, text, _ = run("bounce", slipway, "--out", out, "--layer", "sub", "--bars", "2-3", "--before-duck")
        self.assertEqual((status, text.strip()), (0, str(out / "Slipway-sub.wav")))
        audio, rate = read_audio((out / "Slipway-sub.wav").read_bytes(), "x.wav")
        self.assertAlmostEqual(audio.shape[1] / rate, 8 * 60 / 126, delta=1e-3)
        for arguments, said in ((("--layer", "nobody"), "no layer 'nobody'"), (("--bars", "x"), "a run of bars")):
            status, _, complained = run("bounce", slipway, "--out", out, *arguments)
            self.assertEqual((status, said in complained), (2, True), complained)
        status, text, _ = run(
            "multisample", slipway, "--out", out, "--layer", "sub", "--from", "C1", "--to", "E1", "--held", 0.3
        )
        self.assertEqual((status, len(text.splitlines())), (0, 3))
        self.assertIn("<region>", (out / "Slipway.sfz").read_text())
        for arguments, said in ((("--from", "X"), "a note"), (("--from", "C3", "--to", "C1"), "runs upwards")):
            status, _, complained = run("multisample", slipway, "--out", self.folder / "other", *arguments)
            self.assertEqual((status, said in complained), (2, True), complained)

    def test_a_folder_of_sounds_a_store_a_backup_and_back(self):
        sounds, data = self.folder / "sounds" / "deep", self.folder / "data"
        sounds.mkdir(parents=True)
        for number, name in enumerate(("a.wav", "b.flac")):
            content = wav(sine(50.0 + number, 0.1), subtype="PCM_16", file_format=name.split(".")[1].upper())
            (sounds / name).write_bytes(content)
        (sounds / "broken.wav").write_bytes(b"RIFF")
        (sounds / "notes.txt").write_text("x")
        status, text, complained = run(
            "import", self.folder / "sounds", self.folder / "slipway.apilado", "--data", data
        )
        self.assertEqual((status, text.count("in the Quarry"), text.count("on the shelf")), (2, 2, 1))
        self.assertIn("'broken.wav'", complained)
        status, text, _ = run("store", "--data", data)
        self.assertEqual((status, "nothing is wrong" in text, "older than 90 days" in text), (0, True, True))
        found = json.loads(run("store", "--data", data, "--json", "--tidy", "--all")[1])
        self.assertEqual((found["counts"]["sounds"], found["done"]), (2, ["tidied: nothing to tidy"]))
        archive = self.folder / "all.zip"
        self.assertEqual(run("backup", archive, "--data", data)[0], 0)
        self.assertIn("--force", run("backup", archive, "--data", data)[2])
        self.assertEqual(run("restore", archive, "--data", data)[0], 2)
        status, text, _ = run("restore", archive, "--data", self.folder / "again")
        self.assertEqual((status, "1 stack and 2 sounds" in text), (0, True))
        next((data / "assets").iterdir()).unlink()
        self.assertEqual(run("store", "--data", data)[0], 1)
        self.assertIn("there is no store", run("store", "--data", self.folder / "nowhere")[2])

    def test_what_a_shell_completes(self):
        for shell in ("bash", "zsh", "fish"):
            status, text, _ = run("completion", shell)
            self.assertEqual(status, 0)
            for word in ("multisample", "before-duck", "history-days", "flac"):
                self.assertIn(word, text, shell)
        completed = subprocess.run(
            [
                "bash",
                "-c",
                run("completion", "bash")[1]
                + """
                COMP_WORDS=(apilado re) COMP_CWORD=1; _apilado; echo "${COMPREPLY[@]}"
                COMP_WORDS=(apilado render --bits 2) COMP_CWORD=3; _apilado; echo "${COMPREPLY[@]}"
                COMP_WORDS=(apilado bounce --be) COMP_CWORD=2; _apilado; echo "${COMPREPLY[@]}"
            """,
            ],
            capture_output=True,
            text=True,
            check=True,
        )
        self.assertEqual(completed.stdout.splitlines(), ["render restore", "24", "--before-duck"])

    def test_a_stack_with_a_space_has_a_file_of_it_among_the_stems_alone(self):
        breakwater = self.folder / "breakwater.apilado"
        self.assertEqual(run("render", breakwater, "--out", self.folder / "mix")[0], 0)
        self.assertEqual([path.name for path in (self.folder / "mix").iterdir()], ["mix.wav"])
        self.assertEqual(run("render", breakwater, "--out", self.folder / "all", "--stems", "--bits", "32f")[0], 0)
        audio = {
            name: read_audio((self.folder / "all" / f"{name}.wav").read_bytes(), f"{name}.wav")[0].astype(np.float64)
            for name in ("bass", "space", "kick", "mix")
        }
        assert_allclose(audio["bass"] + audio["space"] + audio["kick"], audio["mix"], atol=1e-5)
        self.assertGreater(float(np.abs(audio["space"]).max()), 0.001)

    def test_check_mends_and_writes_what_it_mended(self):
        gate, mended = self.folder / "lock-gate.apilado", self.folder / "mended.apilado"
        before = gate.read_bytes()
        status, text, _ = run("check", gate, "--mend", "--write", mended)
        self.assertEqual(status, 0)
        self.assertGreaterEqual(text.count("mend   "), 5)
        self.assertIn("LUFS before", text)
        self.assertEqual(gate.read_bytes(), before)
        self.assertEqual(run("check", mended)[0], 0)
        status, text, _ = run("check", mended, "--mend", "--json")
        plan = json.loads(text)
        self.assertEqual((status, list(plan)), (0, ["steps", "left", "loudness_lkfs"]))
        for given, complaint in (
            (("--mend", "--write", mended), "is there already; --force writes over it"),
            (("--mend", "--write", self.folder / "x.wav"), "is written as .json or, with its audio, as .apilado"),
            (("--write", self.folder / "y.json"), "--write goes with --mend"),
        ):
            status, _, said = run("check", mended, *given)
            self.assertEqual((status, complaint in said), (2, True), said)

    def test_a_json_finds_its_assets_beside_it(self):
        bundle = rope_walk()
        (self.folder / "assets").mkdir()
        path = self.folder / "rope.json"
        path.write_text(stack_to_json(bundle.stack))
        status, _, complaint = run("check", path)
        self.assertEqual(status, 2)
        self.assertIn("beside it", complaint)
        asset = bundle.assets[0]
        (self.folder / "assets" / f"{asset.sha256}.wav").write_bytes(asset.content)
        self.assertEqual(run("check", path)[0], 0)
        (self.folder / "assets" / f"{asset.sha256}.wav").write_bytes(asset.content[:-2])
        self.assertIn("does not match its SHA-256", run("check", path)[2])

    def test_one_pass_is_longer_and_rates_are_kept(self):
        arguments = ("render", self.folder / "slipway.apilado", "--rate", "44100", "--format", "flac", "--bits", "16")
        run(*arguments, "--out", self.folder / "loop")
        run(*arguments, "--out", self.folder / "once", "--one-pass")
        loop, rate = read_audio((self.folder / "loop" / "mix.flac").read_bytes(), "mix.flac")
        once, _ = read_audio((self.folder / "once" / "mix.flac").read_bytes(), "mix.flac")
        self.assertEqual(rate, 44100)
        # As long as it rings, which is not long: the last notes are short and the kick is of a quarter of a second.
        self.assertGreater(once.shape[1], loop.shape[1] + rate // 50)
        self.assertLess(once.shape[1], loop.shape[1] + rate)
        self.assertLess(np.abs(once[:, -rate // 50 :]).max(), 10 ** (-88 / 20))

    def test_complaints_are_one_line(self):
        for arguments, words in (
            (("check", self.folder / "none.json"), "No such file"),
            (("import", __file__, "--data", self.folder / "data"), "neither a bundle"),
            (
                (
                    "render",
                    self.folder / "slipway.apilado",
                    "--out",
                    self.folder / "x",
                    "--format",
                    "flac",
                    "--bits",
                    "32f",
                ),
                "FLAC holds",
            ),
        ):
            status, _, complaint = run(*arguments)
            self.assertEqual((status, complaint.count("\n")), (2, 1))
            self.assertIn(words, complaint)

    def test_schema_and_settings(self):
        self.assertEqual(json.loads(run("schema")[1])["title"], "Apilado stack")
        readme = (Path(__file__).parents[1] / "README.md").read_text()
        for setting in SETTINGS:
            self.assertIn(f"--{setting.name.replace('_', '-')}", readme)


class KilledTest(FolderCase):
    def test_every_acknowledged_edit_is_there_and_no_half_written_file(self):
        server = Server(self.folder / "data")
        try:
            acknowledged = 0.0
            revision = json.loads(server.ask("/stacks/1/revision"))["revision"]
            form = b"extent=one-pass&file_format=wav&bits=24&rate_hz=96000&mix=on&bass=on&kick=on&layers=on"
            urllib.request.urlopen(server.url + "/stacks/2/deliver", form, timeout=30).close()
            for step in range(30):
                edit = {"op": "set", "path": "tempo_bpm", "value": 90.0 + step}
                told = json.loads(server.ask("/stacks/1/edits", {"edit": edit, "base": revision, "view": {}}))
                revision, acknowledged = told["revision"], told["tempo_bpm"]
                time.sleep(0.01)
        finally:
            server.kill()
        again = Server(self.folder / "data")
        try:
            told = json.loads(again.ask("/stacks/1/plan", {"view": {}}))
            self.assertEqual(told["tempo_bpm"], acknowledged)
            self.assertEqual(told["undo"], f"Tempo: {acknowledged:g} bpm")
            self.assertEqual(list((self.folder / "data" / "deliveries").iterdir()), [])
            self.assertEqual(list((self.folder / "data" / "assets").glob("*.part")), [])
        finally:
            again.kill()
        connection = sqlite3.connect(self.folder / "data" / "apilado.sqlite3")
        self.assertEqual(connection.execute("PRAGMA integrity_check").fetchone()[0], "ok")
        connection.close()

    def test_it_listens_on_loopback_alone(self):
        server = Server(self.folder / "data")
        try:
            self.assertTrue(server.url.startswith("http://127.0.0.1:"))
            request = urllib.request.Request(server.url, headers={"Host": "harbour.example"})
            with self.assertRaises(urllib.error.HTTPError) as refused:
                urllib.request.urlopen(request, timeout=10)
            self.assertEqual(refused.exception.code, 403)
            refused.exception.close()
        finally:
            server.kill()
