"""Loaded once by the process that readers are forked from, so that each of them need not load it anew."""

from __future__ import annotations

import ezdxf.disassemble
import ezdxf.recover  # noqa: F401
import OCP.IGESControl  # noqa: F401
import svgelements  # noqa: F401
import trimesh  # noqa: F401
from numba.core.registry import cpu_target

import fenrik.app.reading
import fenrik.core.solids.health
import fenrik.core.solids.tessellate
import fenrik.core.solids.xcaf  # noqa: F401

# What compiled kernels need to be loaded from disk; no kernel runs here, since its threads would not live on in a fork.
cpu_target.typing_context.refresh()
cpu_target.target_context.refresh()
