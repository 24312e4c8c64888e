"""Findings as causes: what is alike is told once, with its worst place and how often."""

from fenrik.core.findings import MOST_OCCURRENCES, Finding, as_causes


def finding(amount, motion=5, operation=10, kind="holder contact", bodies=("holder", "stock"), **rest):
    return Finding(
        kind=kind, severity="fault", message=f"Stands {amount} deep.", operation=operation, motion=motion,
        time_s=float(motion), place=(float(motion), 0.0, 0.0), amount=amount, bodies=list(bodies), **rest,
    )  # fmt: skip


def test_what_one_row_shows_again_and_again_is_one_finding_with_its_worst_place():
    (one,) = as_causes([finding(0.1, 3, count=2), finding(0.7, 40), finding(0.2, 12, count=4)])
    assert (one.amount, one.motion, one.place) == (0.7, 40, (40.0, 0.0, 0.0))
    assert (one.places, one.count, one.until_s) == (3, 7, 40.0)
    assert [(o.motion, o.amount) for o in one.also] == [(3, 0.1), (12, 0.2)]
    assert one.message == "Stands 0.7 deep. The worst of 3 places in this row."


def test_other_rows_kinds_and_bodies_stay_apart():
    alike = finding(0.1)
    others = [
        finding(0.1, operation=20),
        finding(0.1, kind="shank contact", bodies=("shank", "stock")),
        finding(0.1, bodies=("holder", "fixture")),
        finding(0.1).model_copy(update={"severity": "attention"}),
    ]
    assert as_causes([alike, *others]) == [alike, *others]


def test_what_belongs_to_no_motion_stays_as_it_is():
    whole = [Finding(kind="overtravel", severity="fault", message=m) for m in ("X", "Y")]
    assert as_causes(whole) == whole


def test_of_gaps_the_smallest_is_the_worst():
    gaps = [finding(g, kind="near miss", bodies=("holder", "fixture")) for g in (0.5, 0.1, 0.9)]
    assert as_causes(gaps)[0].amount == 0.1


def test_there_is_an_end_to_what_is_listed_and_none_to_what_is_counted():
    (one,) = as_causes([finding(0.1, motion) for motion in range(3 * MOST_OCCURRENCES)])
    assert one.places == 3 * MOST_OCCURRENCES
    assert len(one.also) == MOST_OCCURRENCES
