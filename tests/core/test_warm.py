"""Kernels that were compiled are known as compiled at the next start; their threads do not spin."""

import os
import re
import subprocess
import sys

from fenrik.core import sources, warm


def test_what_was_compiled_is_marked_where_python_keeps_no_modules(tmp_path, monkeypatch):
    for module in (warm, sources):
        monkeypatch.setattr(module, "COMPILED", tmp_path / "kept" / "kernels.done")
    monkeypatch.setattr(warm, "STEPS", {})
    told = []
    assert not warm.is_warm()
    warm.warm(lambda share, word: told.append(word), processes=1)
    warm.warm(lambda share, word: told.append(word), processes=1)
    assert told == ["compiling kernels", "compiled already"]


def test_threads_that_wait_leave_their_core_to_others_whatever_is_loaded_first():
    # The runtime of threads tells what it goes by when it is loaded; Open CASCADE brings one of its own.
    code = "import OCP.BRepMesh; from fenrik.core.warm import warm_step; warm_step('tip heights')"
    env = {k: v for k, v in os.environ.items() if k != "OMP_WAIT_POLICY"} | {"OMP_DISPLAY_ENV": "VERBOSE"}
    told = subprocess.run([sys.executable, "-c", code], env=env, capture_output=True, text=True, check=True).stderr
    assert re.findall(r"GOMP_SPINCOUNT = '(\d+)'", told)[-1] == "0"
