"""python -m tests [WORD ...]: runs all tests, or those whose dotted name holds a word; counts them plainly."""

from __future__ import annotations

import sys
import time
import unittest
import warnings
from collections.abc import Iterator


def cases(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
    for item in suite:
        if isinstance(item, unittest.TestSuite):
            yield from cases(item)
        else:
            yield item


class Timed(unittest.TextTestResult):
    """Names the slowest tests at the end, so that the suite stays quick."""

    def __init__(self, *arguments: object, **options: object) -> None:
        super().__init__(*arguments, **options)  # type: ignore[arg-type]
        self.seconds: list[tuple[float, str]] = []
        self._began = 0.0

    def startTest(self, test: unittest.TestCase) -> None:
        self._began = time.perf_counter()
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:
        self.seconds.append((time.perf_counter() - self._began, test.id()))
        super().stopTest(test)


def main(words: list[str]) -> int:
    found = list(cases(unittest.defaultTestLoader.discover("tests", top_level_dir=".")))
    chosen = [case for case in found if not words or any(word in case.id() for word in words)]
    # Warnings are errors here, but for those that other packages give about themselves.
    warnings.simplefilter("error")
    for package in ("librosa", "audioread", "pyloudnorm", "numba", "lazy_loader", "joblib", "sklearn"):
        warnings.filterwarnings("ignore", module=rf"{package}(\.|$)")
    runner = unittest.TextTestRunner(stream=sys.stdout, resultclass=Timed, verbosity=1)
    result = runner.run(unittest.TestSuite(chosen))
    for seconds, name in sorted(result.seconds, reverse=True)[:8]:
        print(f"{seconds:6.1f} s  {name}")
    failed = len({str(case) for case, _ in result.failures + result.errors})
    skipped = len(result.skipped)
    passed = result.testsRun - failed - skipped
    print(f"{passed} passed, {failed} failed, {skipped} skipped")
    return 1 if failed or not result.testsRun else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
