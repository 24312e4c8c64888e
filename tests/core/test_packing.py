"""Arrays as bytes and back, from many threads at once."""

from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest

from fenrik.core.packing import pack, unpack


def test_there_and_back():
    arrays = {"a": np.arange(7, dtype=np.int16), "b": np.eye(3)[:, ::-1], "none": np.zeros((0, 3), np.float32)}
    data = pack({"name": "Tide", "of": [1, None]}, **arrays)
    assert data == pack({"of": [1, None], "name": "Tide"}, **arrays)
    meta, again = unpack(data)
    assert meta == {"name": "Tide", "of": [1, None]}
    for name, array in arrays.items():
        assert np.array_equal(again[name], array)
        assert again[name].dtype == array.dtype
        assert again[name].flags.writeable


def test_many_threads_read_at_once():
    data = pack([], a=np.arange(100))
    with ThreadPoolExecutor(16) as pool:
        assert set(pool.map(lambda _: int(unpack(data)[1]["a"].sum()), range(2000))) == {4950}


@pytest.mark.parametrize("cut", [0, 3, 7, 20, -5])
def test_damage_is_an_error(cut):
    data = pack({"a": 1}, a=np.arange(9))
    with pytest.raises(ValueError, match=r"."):
        unpack(data[:cut])
