"""What strategies declare, and what is made from it."""

import pytest
from pydantic import TypeAdapter

from fenrik.core.strategies.registry import STRATEGIES
from fenrik.core.tools import Cutter


@pytest.mark.parametrize("name", list(STRATEGIES))
def test_a_row_added_by_hand_begins_with_what_its_strategy_declares(name):
    """The declaration that the form is made from gives parameters that are complete and within their limits."""
    strategy = STRATEGIES[name]
    said = strategy.params.model_json_schema()
    lengths = {field: round(share * 10.0, 2) for field, share in said["of_diameter"].items()}
    params = strategy.params.model_validate({"strategy": name, **said["fresh"], **lengths})
    assert all(getattr(params, field) == value for field, value in (said["fresh"] | lengths).items())


@pytest.mark.parametrize("strategy", ["thread milling", "drilling"])
def test_a_thread_goes_as_deep_into_the_model_as_its_pitch_asks(strategy):
    """ISO 724: the thread of a nut is 5/8 of the height of the sharp triangle, 0.5413 of the pitch, deep; its root
    may go to 0.6134 of the pitch, as a bolt's. A proof that allowed less would call every thread a gouge."""
    tap = TypeAdapter(Cutter).validate_python({"kind": "tap", "diameter_mm": 6, "flute_length_mm": 20, "pitch_mm": 1.0})
    depth = STRATEGIES[strategy].meant_depth_mm(None, tap)
    assert 0.6134 <= depth < 0.7


@pytest.mark.parametrize("name", list(STRATEGIES))
def test_what_forms_fold_away_are_parameters_that_need_no_answer(name):
    """A folded field that had to be filled in would be one that nobody sees is missing."""
    params = STRATEGIES[name].params
    folded = params.model_json_schema()["folded"]
    assert {"tolerance_mm", "floor_allowance_mm"} <= set(folded) <= set(params.model_fields)
    assert len(set(folded)) < len(params.model_fields)
    assert not any(params.model_fields[field].is_required() for field in folded)
