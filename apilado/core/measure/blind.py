"""Blind comparison: which of two is played is drawn by lot, and how likely so many right answers are by guessing."""

from __future__ import annotations

import math
import random

MOST_TRIALS = 100


def drawn_order(seed: int, count: int) -> tuple[bool, ...]:
    """For each trial, whether the second of the two is played; every order of so many is as likely as any other."""
    dice = random.Random(seed)
    return tuple(dice.random() < 0.5 for _ in range(count))


def chance_of_guessing(right: int, trials: int) -> float:
    """How likely it is to be right at least so many times in so many trials by guessing alone.

    The upper tail of the binomial distribution at one half.
    """
    return sum(math.comb(trials, each) for each in range(right, trials + 1)) / 2.0**trials
