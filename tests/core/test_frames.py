"""Frames against scipy's rotations."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from fenrik.core.errors import FenrikError
from fenrik.core.frames import AXES, frame_with_up

vectors = st.tuples(*[st.floats(-1, 1) for _ in range(3)]).filter(lambda v: np.linalg.norm(v) > 1e-3)


@given(vectors, st.floats(-360, 360))
def test_right_handed_round_trip(up, spin):
    frame = frame_with_up(np.array(up), spin).moved_to(np.array([1.0, 2.0, 3.0]))
    assert np.linalg.det(frame.rotation) == pytest.approx(1.0)
    points = np.arange(12.0).reshape(4, 3)
    assert np.abs(frame.to_part(frame.to_local(points)) - points).max() < 1e-9
    assert np.abs(frame.rotation[:, 2] - np.array(up) / np.linalg.norm(up)).max() < 1e-9


def test_spin_turns_about_up():
    plain, turned = frame_with_up(np.array([0, 0, 1.0])), frame_with_up(np.array([0, 0, 1.0]), 30)
    assert np.allclose(turned.rotation, Rotation.from_euler("z", 30, degrees=True).as_matrix() @ plain.rotation)


def test_axes_and_no_direction():
    for axis in AXES.values():
        assert np.allclose(frame_with_up(np.array(axis, float)).rotation[:, 2], axis)
    with pytest.raises(FenrikError, match="no length"):
        frame_with_up(np.zeros(3))
