"""Threads against the geometry of ISO 68-1 and against each other."""

import math

import pytest

from fenrik.core.cutting.threads import standard_threads, threads_for_bore

THREADS = standard_threads()
H = math.sqrt(3) / 2
"""Height of the fundamental triangle for a pitch of 1 (ISO 68-1)."""


@pytest.mark.parametrize("name", THREADS)
def test_diameters_follow_from_the_triangle(name):
    t = THREADS[name]
    assert t.pitch_diameter_mm == pytest.approx(t.major_mm - 2 * 3 / 8 * H * t.pitch_mm, abs=1e-5 * t.pitch_mm)
    assert t.minor_mm == pytest.approx(t.major_mm - 2 * 5 / 8 * H * t.pitch_mm, abs=1e-5 * t.pitch_mm)


@pytest.mark.parametrize("name", THREADS)
def test_a_tap_drill_leaves_a_thread_that_holds(name):
    """Between the minor diameter, less what it may be under it, and three quarters of the full depth."""
    t = THREADS[name]
    depth = (t.major_mm - t.tap_drill_mm) / (t.major_mm - t.minor_mm)
    assert 0.60 <= depth <= 1.06


@pytest.mark.parametrize("name", [n for n, t in THREADS.items() if t.series.startswith("metric")])
def test_metric_tap_drills_are_the_diameter_less_the_pitch(name):
    """ISO 2306 rounds that up by a twentieth or down to a drill that is sold."""
    t = THREADS[name]
    assert t.tap_drill_mm == pytest.approx(t.major_mm - t.pitch_mm, abs=0.06)


def test_sizes_known_to_everyone():
    assert (THREADS["M6"].pitch_mm, THREADS["M6"].tap_drill_mm) == (1.0, 5.0)
    assert (THREADS["M10×1.25"].pitch_mm, THREADS["M10×1.25"].series) == (1.25, "metric fine")
    quarter = THREADS["1/4-20 UNC"]
    assert quarter.major_mm == pytest.approx(6.35)
    assert quarter.pitch_mm == pytest.approx(1.27)
    assert quarter.series == "UNC"


@pytest.mark.parametrize("series", ["metric coarse", "UNC"])
def test_pitches_grow_with_the_size(series):
    rows = sorted((t.major_mm, t.pitch_mm) for t in THREADS.values() if t.series == series)
    pitches = [p for _, p in rows]
    assert pitches == sorted(pitches)


def test_fine_threads_are_finer():
    coarse = {t.major_mm: t.pitch_mm for t in THREADS.values() if t.series == "metric coarse"}
    fine = [t for t in THREADS.values() if t.series == "metric fine"]
    assert all(t.pitch_mm < coarse[t.major_mm] for t in fine)


@pytest.mark.parametrize("name", THREADS)
def test_the_bore_of_a_tap_drill_or_of_the_minor_diameter_leads_to_its_thread(name):
    t = THREADS[name]
    for bore in (t.tap_drill_mm, t.minor_mm):
        assert t in threads_for_bore(bore)
    assert t not in threads_for_bore(t.major_mm + t.pitch_mm)


def test_what_fits_is_told_metric_coarse_first_and_nothing_where_nothing_fits():
    found = threads_for_bore(8.5)
    assert found[0].name == "M10"
    order = ["metric coarse", "metric fine", "UNC", "UNF"]
    ranks = [order.index(t.series) for t in threads_for_bore(8.8, 0.5)]
    assert ranks == sorted(ranks)
    assert threads_for_bore(100.0) == []
