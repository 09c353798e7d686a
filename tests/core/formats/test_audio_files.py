import struct
import unittest

import numpy as np
import soundfile
from numpy.testing import assert_allclose

from apilado.core.formats.audio_files import read_audio, resampled, write_audio
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
    def test_a_sine_stays_a_sine(self):
        out = resampled(sine(1000.0, 0.5, 44100), 44100, 48000)
        self.assertEqual(out.shape[1], 24000)
        assert_allclose(out[:, 2000:-2000], sine(1000.0, 0.5, 48000)[:, 2000:-2000], atol=1e-4)
