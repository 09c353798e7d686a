import io
import struct
import time
import tracemalloc
import unittest

import numpy as np
import soundfile
from numpy.testing import assert_allclose

from apilado.core.formats.audio_files import check_audio, read_at, read_audio, write_audio
from apilado.errors import UnreadableFile
from tests.support import noise, sine, wav


class ReadingTest(unittest.TestCase):
    def test_every_format_comes_in(self):
        tone = sine(220.0, 0.5, 44100, amplitude=0.5)
        for extension, file_format, subtype, tolerance in (
            ("wav", "WAV", "PCM_16", 1e-4),
            ("aiff", "AIFF", "PCM_24", 1e-6),
            ("flac", "FLAC", "PCM_24", 1e-6),
            ("ogg", "OGG", "VORBIS", 0.05),
            ("mp3", "MP3", "MPEG_LAYER_III", 0.1),
        ):
            with self.subTest(extension=extension):
                content = wav(tone, 44100, subtype, file_format)
                audio, rate = read_audio(content, f"tone.{extension}")
                self.assertEqual((rate, audio.dtype, audio.shape[0]), (44100, np.float32, 2))
                middle = slice(4000, 16000)
                best = min(float(np.abs(audio[:, 4000 + s : 16000 + s] - tone[:, middle]).max()) for s in range(1200))
                self.assertLess(best, tolerance)

    def test_bad_files_are_named(self):
        good = wav(sine(220.0, 0.2), 48000, "PCM_16")
        many = wav(np.zeros((24, 100), np.float32), 48000, "PCM_16")
        nan = sine(220.0, 0.1)
        nan[0, 100] = np.nan
        cases = (
            (good[: len(good) // 2], "cut.wav", "'cut.wav' is cut short"),
            (good[:30], "stub.wav", "cannot be read as audio"),
            (b"", "nothing.wav", "'nothing.wav' is empty"),
            (wav(np.zeros((2, 0), np.float32)), "zero.wav", "its length is zero"),
            (many, "many.wav", "24 channels; mono and stereo are read"),
            (wav(nan), "nan.wav", "holds samples that are not numbers"),
            (good, "wrong.flac", "is named .flac but holds WAV"),
            (good, "wrong.txt", "none of WAV, AIFF, FLAC, OGG or MP3"),
            (b"not audio at all" * 20, "text.wav", "cannot be read as audio"),
        )
        for content, name, words in cases:
            with self.subTest(name=name), self.assertRaisesRegex(UnreadableFile, words):
                read_audio(bytes(content), name)

    def test_two_hours_are_refused_from_the_header(self):
        frames = 7200 * 8000
        silence = wav(np.zeros((1, 16), np.float32), 8000, "PCM_U8")
        data = silence.index(b"data")
        long = silence[:data] + b"data" + struct.pack("<I", frames) + bytes(frames)
        long = long[:4] + struct.pack("<I", len(long) - 8) + long[8:]
        with self.assertRaisesRegex(UnreadableFile, "lasts 120 minutes; the most is 10 minutes"):
            read_audio(long, "long.wav")


class WritingTest(unittest.TestCase):
    def test_float_is_exact(self):
        audio = noise(1000)
        back, rate = read_audio(write_audio(audio, 96000, bits="32f"), "a.wav")
        np.testing.assert_array_equal(back, audio)
        self.assertEqual(rate, 96000)

    def test_whole_numbers_are_dithered_and_rounded(self):
        quiet = np.full((2, 200000), 0.4 / 32768, np.float32)
        found, _ = soundfile.read(self._file(quiet, "16"), dtype="int16")
        # Floored it would be 0 everywhere, undithered too; with triangular dither the mean is kept.
        self.assertAlmostEqual(float(found.mean()), 0.4, delta=0.01)
        self.assertEqual(set(np.unique(found)), {-1, 0, 1})

    def test_error_is_small_and_loud_samples_clip(self):
        audio = noise(20000, amplitude=0.2)
        for bits, step in (("16", 2.0**-15), ("24", 2.0**-23)):
            for file_format in ("wav", "flac"):
                content = write_audio(audio, 48000, bits=bits, file_format=file_format)
                back, _ = read_audio(content, f"a.{file_format}")
                self.assertLess(float(np.abs(back - audio).max()), 1.6 * step + 1e-7)
        loud, _ = read_audio(write_audio(np.full((2, 10), 1.5, np.float32), 48000, bits="16"), "a.wav")
        assert_allclose(loud, 32767 / 32768, atol=1e-6)

    def test_flac_holds_no_floats(self):
        with self.assertRaisesRegex(ValueError, "FLAC holds whole numbers"):
            write_audio(noise(10), 48000, file_format="flac", bits="32f")

    @staticmethod
    def _file(audio, bits):
        import io

        return io.BytesIO(write_audio(audio, 48000, bits=bits))


class ResamplingTest(unittest.TestCase):
    def test_a_sine_stays_a_sine_over_all_blocks(self):
        # Longer than a block: what comes in pieces is what comes at once.
        for seconds in (0.5, 4.0):
            out = read_at(wav(sine(1000.0, seconds, 44100), 44100), "a.wav", 48000)
            self.assertEqual(out.shape[1], round(48000 * seconds))
            assert_allclose(out[:, 2000:-2000], sine(1000.0, seconds, 48000)[:, 2000:-2000], atol=1e-4)

    def test_at_its_own_rate_nothing_happens(self):
        sound = noise(100000, seed=4)
        np.testing.assert_array_equal(read_at(wav(sound), "a.wav", 48000), sound)


class HostileTest(unittest.TestCase):
    def test_small_files_that_unpack_to_much_take_no_memory(self):
        # Ten minutes of silence pack into a few hundred KiB of FLAC, and into 220 MB of floats.
        quiet = np.zeros((2, 590 * 48000), np.int16)
        content = io.BytesIO()
        soundfile.write(content, quiet.T, 48000, format="FLAC", subtype="PCM_16")
        del quiet
        tracemalloc.start()
        check_audio(content.getvalue(), "long.flac")
        _, most = tracemalloc.get_traced_memory()
        tracemalloc.stop()
        self.assertLess(most, 20 * 2**20)

    def test_rates_that_nobody_records_at_are_refused(self):
        for rate in (1000, 655350):
            with self.assertRaisesRegex(UnreadableFile, f"a rate of {rate} Hz; from 4000 to 384000 Hz are read"):
                check_audio(wav(np.zeros((1, 1000), np.float32), rate), "a.wav")

    def test_a_million_empty_chunks_are_not_walked_through(self):
        content = b"RIFF" + (8_000_004).to_bytes(4, "little") + b"WAVE" + b"junk\0\0\0\0" * 1_000_000
        began = time.process_time()
        with self.assertRaisesRegex(UnreadableFile, "more than 4096 chunks"):
            check_audio(content, "chunks.wav")
        self.assertLess(time.process_time() - began, 1.0)

    def test_mutated_files_are_refused_or_read_and_nothing_else(self):
        random = np.random.default_rng(11)
        whole = {
            "a.wav": wav(sine(100.0, 0.1), subtype="PCM_16"),
            "a.flac": write_audio(sine(100.0, 0.1), 48000, file_format="flac", bits="16"),
            "a.aiff": wav(sine(100.0, 0.1), subtype="PCM_16", file_format="AIFF"),
        }
        for name, content in whole.items():
            for _ in range(150):
                broken = bytearray(content)
                for _ in range(int(random.integers(1, 12))):
                    broken[int(random.integers(min(len(broken), 400)))] = int(random.integers(256))
                part = bytes(broken[: int(random.integers(1, len(broken) + 1))])
                try:
                    audio = read_at(part, name, 44100)
                    self.assertTrue(np.all(np.isfinite(audio)))
                except UnreadableFile as error:
                    self.assertIn(name, str(error))
