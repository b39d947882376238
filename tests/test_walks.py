"""Walks over changing rows: the fast simulator equals the reference, counter by counter."""

import random

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from vrelko.core.drift import fast
from vrelko.core.drift.reference import play
from vrelko.core.drift.timeline import Changes, Timeline
from vrelko.core.drift.walks import DELETE, DRIFT_STRATEGIES, INSERT, MOVE, SPACE, Course, Event
from vrelko.errors import PageError


def course(seed):
    """A small table with any changes: also to rows that are not there, at a page's very time."""
    rng = random.Random(seed)
    rows, size = rng.randrange(0, 40), rng.randrange(1, 7)
    pages = rng.randrange(1, 9)
    dwell = rng.choice([0.0, 1.0, 1.0, rng.random()])
    times = tuple(page * dwell for page in range(pages))
    span = (rows + 2) * SPACE
    keys = iter(rng.sample(range(span // 8), 80))
    events, fresh = [], rows
    for _ in range(rng.randrange(0, 60)):
        time = rng.choice([rng.random() * (pages + 1), float(rng.randrange(pages + 1))]) * dwell
        kind = rng.choice([INSERT, INSERT, DELETE, MOVE])
        row = rng.randrange(fresh + 2)
        if kind == INSERT and rng.random() < 0.9:
            row, fresh = fresh, fresh + 1
        place = next(keys) * 8 + 1 if rng.random() < 0.6 else rng.randrange(1, SPACE)
        events.append(Event(time, kind, row, 0 if kind == DELETE else place))
    taken = {(row + 1) * SPACE for row in range(rows)}
    distinct = []
    for event in sorted(events, key=lambda event: event.time):
        if event.kind == DELETE or event.key not in taken:
            taken.add(event.key)
            distinct.append(event)
    return Course(rows, size, times, tuple(distinct), rng.randrange(0, 4))


@pytest.mark.slow
@settings(max_examples=250)
@given(seed=st.integers(0, 2**40))
def test_fast_equals_the_reference(seed):
    one = course(seed)
    timeline = Timeline(one)
    for strategy in DRIFT_STRATEGIES:
        counts, by_page = fast.play_by_page(timeline, strategy)
        assert counts == fast.play(timeline, strategy) == play(one, strategy), strategy
        assert tuple(map(sum, zip(*by_page, strict=True))) == (counts.repeats, counts.misses)


@settings(max_examples=60)
@given(seed=st.integers(0, 2**40))
def test_where_most_events_are_far_from_any_page(seed):
    """Events that no page meets are left out, and nothing changes."""
    rng = random.Random(seed)
    rows, size, pages = 600, rng.randrange(1, 5), rng.randrange(1, 6)
    kinds = [rng.choice([INSERT, DELETE, MOVE]) for _ in range(200)]
    numbers = [rows + i if kind == INSERT else rng.randrange(rows) for i, kind in enumerate(kinds)]
    keys = rng.sample(range(1, rows * SPACE), 200)
    times = sorted(rng.random() * pages for _ in kinds)
    events = tuple(
        Event(time, kind, row, key)
        for time, kind, row, key in zip(times, kinds, numbers, keys, strict=True)
    )
    one = Course(rows, size, tuple(map(float, range(pages))), events, 2)
    timeline = Timeline(one)
    assert len(timeline.key) < 200
    for strategy in DRIFT_STRATEGIES:
        assert fast.play(timeline, strategy) == play(one, strategy), strategy


def test_what_is_exactly_zero():
    """By key and in frozen views nothing comes twice and nothing is missed, whatever happens."""
    for seed in range(400):
        one = course(seed)
        timeline = Timeline(one)
        assert (
            fast.play(timeline, "keyset").repeats_same_key
            == fast.play(timeline, "keyset").misses
            == 0
        )
        for strategy in ("frozen-view", "frozen-ids"):
            frozen = fast.play(timeline, strategy)
            assert frozen.repeats == frozen.misses == frozen.dodges == 0
        assert fast.play(timeline, "overlap").repeats == 0


def test_a_billion_rows_take_no_more_than_their_changes():
    rng = np.random.default_rng(1)
    count, rows = 20_000, 10**9
    kinds = rng.choice([INSERT, DELETE], size=count, p=[0.7, 0.3])
    places = rng.integers(0, rows, count)
    numbers = np.where(kinds == INSERT, rows + np.arange(count), places)
    keys = np.where(kinds == INSERT, (places + 1) * SPACE - 1 - np.arange(count), 0)
    changes = Changes(np.sort(rng.random(count) * 20), kinds, numbers, keys)
    timeline = Timeline(Course(rows, 50, tuple(map(float, range(20))), ()), changes)
    assert len(timeline.key) < 20
    for strategy in DRIFT_STRATEGIES:
        assert fast.play(timeline, strategy).served == 1_000


@pytest.mark.parametrize(
    "wrong",
    [
        {"rows": -1},
        {"size": 0},
        {"times": ()},
        {"overlap": -1},
    ],
)
def test_absurd_courses_are_refused(wrong):
    with pytest.raises(PageError):
        Course(**{"rows": 3, "size": 1, "times": (0.0,), "events": (), **wrong})
    with pytest.raises(PageError, match="sideways"):
        play(Course(1, 1, (0.0,), ()), "sideways")
