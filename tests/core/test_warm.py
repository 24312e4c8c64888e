"""Kernels that were compiled are known as compiled at the next start."""

from fenrik.core import warm


def test_what_was_compiled_is_marked_where_python_keeps_no_modules(tmp_path, monkeypatch):
    monkeypatch.setattr(warm, "_DONE", tmp_path / "kept" / "kernels.done")
    monkeypatch.setattr(warm, "STEPS", {})
    told = []
    assert not warm.is_warm()
    warm.warm(lambda share, word: told.append(word), processes=1)
    warm.warm(lambda share, word: told.append(word), processes=1)
    assert told == ["compiling kernels", "compiled already"]
