"""python -m tests [WORD ...]: runs all tests, or those whose dotted name holds a word; counts them plainly.

All of them run in parts, three processes side by side: the browser's in two parts, which wait for what is played half
of the time, and beside them all others, of which the last parts begin when a part has ended.
"""

from __future__ import annotations

import re
import subprocess
import sys
import time
import unittest
import warnings
from collections.abc import Collection, Iterator
from concurrent.futures import ThreadPoolExecutor

BROWSER = "tests.browser."
AT_ONCE, BROWSERS, OTHERS = 3, 2, 4
PARTS = {
    **{f"In the browser, {part + 1} of {BROWSERS}": f"{part}/{BROWSERS} of" for part in range(BROWSERS)},
    **{f"All others, {part + 1} of {OTHERS}": f"{part}/{OTHERS} without" for part in range(OTHERS)},
}
"""By what it is called, what a process is told to run: of every so many files one, of the browser's or without them."""
COUNTED = re.compile(r"^(\d+) passed, (\d+) failed, (\d+) skipped$", re.MULTILINE)


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


def found() -> list[unittest.TestCase]:
    """All tests."""
    return list(cases(unittest.defaultTestLoader.discover("tests", top_level_dir=".")))


def part_of(told: str) -> list[unittest.TestCase]:
    """The tests of a part."""
    share, which = told.split()
    part, parts = map(int, share.split("/"))
    chosen = [case for case in found() if case.id().startswith(BROWSER) == (which == "of")]
    files = sorted({type(case).__module__ for case in chosen})
    return [case for case in chosen if files.index(type(case).__module__) % parts == part]


def run(chosen: Collection[unittest.TestCase]) -> int:
    """Runs tests in this process, and tells how it went; 1 where one failed or there were none."""
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


def run_side_by_side() -> int:
    """All tests, in processes. What each says is shown when it is through; one without a count has failed."""

    def ended(part: str) -> subprocess.CompletedProcess[str]:
        command = [sys.executable, "-W", "error", "-m", "tests", "--part", part]
        return subprocess.run(command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, check=False)

    print(f"{len(PARTS)} parts, {AT_ONCE} side by side; each is shown when it is through.", flush=True)
    totals, broken = [0, 0, 0], False
    with ThreadPoolExecutor(AT_ONCE) as pool:
        for name, process in zip(PARTS, pool.map(ended, PARTS.values()), strict=True):
            print(f"--- {name}\n{process.stdout}", flush=True)
            counts = COUNTED.findall(process.stdout)
            broken = broken or process.returncode != 0 or not counts
            if counts:
                totals = [total + int(count) for total, count in zip(totals, counts[-1], strict=True)]
            else:
                print(f"This part ended with {process.returncode} before it was through.")
    passed, failed, skipped = totals
    failed = max(failed, 1) if broken else failed
    print(f"{passed} passed, {failed} failed, {skipped} skipped")
    return 1 if failed or not passed else 0


def main(words: list[str]) -> int:
    if words[:1] == ["--part"]:
        return run(part_of(words[1]))
    return run([case for case in found() if any(word in case.id() for word in words)]) if words else run_side_by_side()


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
