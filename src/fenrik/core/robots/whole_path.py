"""One answer for a whole path: all that an arm is free in, chosen at once.

What a path leaves open at each row (the turn about the tool, turntable and track, and which of its postures the arm
takes) is a grid of choices; every choice has a cost in a second of standing so (near ends, near singular postures, near
other bodies, against a wish), every step a cost by the speeds that its joints need. The shortest way through the graph
of all is found by dynamic programming on rows that are as far apart as the motion allows, then with ever finer choices
about the last answer; between those rows the freedoms go along smooth curves, and the arm's joints follow in closed
form (R. Bellman, Dynamic Programming, 1957; whole-path redundancy as a layered graph: A. P. Pashkevich, A. B. Dolgui,
O. A. Chumakov 2004, "Multiobjective optimization of robot motion for laser cutting applications").

Motion costs Σ (Δq / speed)² / Δt, an approximation of the integral of the squared share of its speed that each joint
needs, so that answers on coarse and on fine rows can be compared.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.interpolate import PchipInterpolator

from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.progress import Progress, silent
from fenrik.core.robots import _whole_path_kernels as kernels
from fenrik.core.robots._cell_kernels import Surroundings
from fenrik.core.robots._whole_path_kernels import Wanted
from fenrik.core.robots.around import nothing_around
from fenrik.core.robots.chain import CellChain
from fenrik.core.robots.wishes import ArmWishes
from fenrik.core.toolpath import Toolpath

SPIN_CHOICES, TABLE_CHOICES, TRACK_CHOICES = 16, 16, 9
REFINED = (0.5, 0.5, 0.25, 0.25, 0.12, 0.12, 0.06, 0.06)
"""Steps of the finer rounds, as shares of the first."""
COARSE_MM, COARSE_RAD, MOST_COARSE = 40.0, 0.14, 500
AIR_MM_S, TURN_RAD_S, LEAST_S = 150.0, 1.5, 1e-3
LEAP, FREE_LEAP = 1e4, 20.0
ROUNDS, MOST_WINDING = 4, 2
WISH = 4.0


@dataclass(frozen=True)
class WholePath:
    """The joints of a cell along a path.

    Attributes:
        joints: (n, joints) mm and degrees, NaN where a row cannot be reached.
        leap: (n,) whether the arm does not follow the tool on the way to a row, but comes by another way.
        measures: (n, 3) how far shoulder, elbow and wrist are from singular, 0 to 1.
        clearance_mm: (n,) the least gap between the arm's bodies and what stands round, at least.
        elbow_mm, flange_deg: (n,) how high the elbow is over the base; how far the flange's axis, seen from above, is
            from the line to the base. cost: of all.
    """

    joints: Points
    leap: NDArray[np.bool_]
    measures: Points
    clearance_mm: Points
    elbow_mm: Points
    flange_deg: Points
    cost: float

    @property
    def lost(self) -> NDArray[np.bool_]:
        return np.asarray(np.isnan(self.joints).any(axis=1))

    def columns(self) -> dict[str, np.ndarray]:
        """All that is known row by row, by name."""
        return {name: getattr(self, name) for name in self.__dataclass_fields__ if name != "cost"}

    def rows(self, index: NDArray[np.int64]) -> WholePath:
        return WholePath(cost=self.cost, **{name: column[index] for name, column in self.columns().items()})


def whole_path(
    chain: CellChain, path: Toolpath, wishes: ArmWishes, around: Surroundings | None = None,
    progress: Progress = silent,
) -> WholePath:  # fmt: skip
    """The joints of a cell along a path.

    Args:
        path: of straight rows, in the work. around: what the arm's bodies are kept clear of.

    Raises:
        FenrikError: where a wish names a posture or a joint that the cell does not have.
    """
    task = _Task.of(chain, path, wishes, around or nothing_around())
    if len(path) == 0:
        none = np.zeros(0)
        return WholePath(np.zeros((0, len(chain.joints))), none > 0, np.zeros((0, 3)), none, none, none, 0.0)
    answers = []
    for k, base in enumerate(_worth_looking_at(task)):
        progress(0.1 + 0.25 * k, "looking at all ways")
        answers.append(_first(task, base))
    best = min(answers, key=lambda a: a.cost)
    progress(0.6, "smoothing")
    return _finished(task, best)


def wanted_of(chain: CellChain, wishes: ArmWishes) -> Wanted:
    """What a way is weighed by.

    Raises:
        FenrikError: where a wish names a posture or a joint that the cell does not have.
    """
    cell = chain.cell
    low, high = _ends(chain, wishes)
    posture = next((p for p in cell.postures if p.name == wishes.posture), None)
    if wishes.stay > 0 and posture is None:
        raise fail("posture", "is none of those taught in this cell.", "Teach it, or choose another.", wishes.posture)
    stay = np.array(posture.joints_deg) if posture is not None else np.zeros(6)
    speed = np.array([j.speed or 3600.0 for j in chain.joints]) / 60.0
    turn = np.deg2rad(speed[chain.table]) if chain.table is not None else 1.0
    ride = float(speed[chain.track]) if chain.track is not None else 1.0
    columns = chain.columns
    external = [
        (-np.inf, np.inf) if chain.table is None else tuple(np.deg2rad([low[chain.table], high[chain.table]])),
        (-np.inf, np.inf) if chain.track is None else (low[chain.track], high[chain.track]),
    ]
    return Wanted(
        low=np.deg2rad(low[columns]),
        high=np.deg2rad(high[columns]),
        speed=np.deg2rad(speed[columns]),
        external_speed=np.array([turn, ride]),
        external_low=np.array([e[0] for e in external]),
        external_high=np.array([e[1] for e in external]),
        arm=10.0 ** (2.0 * (0.5 - wishes.arm_turns)),
        external=10.0 ** (2.0 * (0.5 - wishes.table_turns)),
        elbow=WISH * wishes.elbow_high,
        facing=WISH * wishes.facing,
        stay=WISH * wishes.stay,
        posture=np.deg2rad(stay),
        clear_mm=60.0,
        leap=LEAP,
        free_leap=FREE_LEAP,
        elbow_mm=float(chain.base.rotation[2] @ chain.arm.origin[1] + np.hypot(*chain.arm.upper)),
    )


def _ends(chain: CellChain, wishes: ArmWishes) -> tuple[Points, Points]:
    """Lowest and highest values of all joints, narrowed."""
    low = np.array([-np.inf if j.low is None else j.low for j in chain.joints])
    high = np.array([np.inf if j.high is None else j.high for j in chain.joints])
    names = [j.name for j in chain.joints]
    for narrower in wishes.ranges:
        if narrower.joint not in names:
            raise fail("ranges", "names no joint of this cell.", f"Choose one of {', '.join(names)}.", narrower.joint)
        k = names.index(narrower.joint)
        low[k], high[k] = max(low[k], narrower.low), min(high[k], narrower.high)
        if low[k] >= high[k]:
            raise fail("ranges", f"leave {narrower.joint} no way.", "Widen its range.", narrower.joint)
    return low, high


def seconds_of(path: Toolpath) -> Points:
    """What each row takes at its feed, as steps are weighed, (n,)."""
    length = path.lengths()
    speed = np.where(path.feed > 0, path.feed / 60.0, AIR_MM_S)
    before = np.vstack([path.axis[:1], path.axis[:-1]])
    turned = np.linalg.norm(path.axis - before, axis=1)
    return np.maximum(np.maximum(length / speed, turned / TURN_RAD_S), LEAST_S)


@dataclass(frozen=True)
class _Base:
    """What the freedoms move about: spin and track stand, the table (n,) turns so; the choices about it."""

    table: Points
    lead: Points
    centre: Points
    step: Points
    count: NDArray[np.int64]
    wraps: NDArray[np.bool_]
    moves: NDArray[np.int64]


@dataclass(frozen=True)
class _Answer:
    """Freedoms (k, 3), postures and joints at coarse rows."""

    base: _Base
    rows: NDArray[np.int64]
    freedom: Points
    way: NDArray[np.int64]
    joints: Points
    leap: NDArray[np.bool_]
    cost: float


@dataclass(frozen=True)
class _Task:
    chain: CellChain
    path: Toolpath
    wishes: ArmWishes
    around: Surroundings
    wanted: Wanted
    seconds: Points
    wide: NDArray[np.int64]

    @classmethod
    def of(cls, chain: CellChain, path: Toolpath, wishes: ArmWishes, around: Surroundings) -> _Task:
        wanted = wanted_of(chain, wishes)
        wide = np.flatnonzero(wanted.high - wanted.low > 2 * np.pi)
        # Each joint that may wind makes three states of one: the last two do, others keep to a turn about their middle.
        middle = 0.5 * (wanted.low + wanted.high)
        still = np.isin(np.arange(len(middle)), wide[:-MOST_WINDING])
        low = np.where(still, middle - np.pi, wanted.low)
        high = np.where(still, middle + np.pi, wanted.high)
        narrow = wanted._replace(low=low, high=high)
        return cls(chain, path, wishes, around, narrow, seconds_of(path), wide[-MOST_WINDING:])

    def bases(self) -> list[_Base]:
        """The table at rest, and, where it may move along, turning so that the work keeps its side to the arm."""
        n, chain, wishes, wanted = len(self.path), self.chain, self.wishes, self.wanted
        count = np.array([SPIN_CHOICES, 1, 1])
        step = np.array([2 * np.pi / SPIN_CHOICES, 0.0, 0.0])
        wraps, moves = np.array([True, False, False]), np.array([1, 0, 0])
        centre = np.zeros((n, 3))
        if chain.track is not None:
            centre[:, 2] = wishes.track_mm
            if wishes.track != "held":
                low, high = wanted.external_low[1], wanted.external_high[1]
                count[2], step[2], centre[:, 2] = TRACK_CHOICES, (high - low) / (TRACK_CHOICES - 1), 0.5 * (low + high)
                moves[2] = int(wishes.track == "moves along")
        tables = [np.full(n, np.deg2rad(wishes.table_deg))]
        if chain.table is not None and wishes.table != "held":
            low, high = wanted.external_low[0], wanted.external_high[0]
            span = min(high - low, 2 * np.pi)
            count[1], step[1] = TABLE_CHOICES, span / TABLE_CHOICES
            wraps[1] = high - low >= 2 * np.pi
            moves[1] = int(wishes.table == "moves along")
            middle = 0.5 * (low + high) if np.isfinite(span) and np.isfinite(low) else 0.0
            tables = [np.full(n, middle)]
            if moves[1] and np.ptp(turning := -_heading(self.path)) > step[1]:
                tables.append(turning)
        found = []
        for table in tables:
            about = centre.copy()
            about[:, 1] = table
            found.append(_Base(table, kernels.leads(self.path.axis, table), about, step, count, wraps, moves))
        return found

    def through(
        self, base: _Base, rows: NDArray[np.int64], centre: Points, step: Points, count: NDArray[np.int64],
        wraps: NDArray[np.bool_], moves: NDArray[np.int64], only: NDArray[np.int64] | None = None,
    ) -> _Answer:  # fmt: skip
        """The least costly choices at some rows."""
        path, gone = self.path, np.cumsum(self.seconds)
        air = np.concatenate([[0], np.cumsum(path.feed <= 0)])
        before = np.append(-1, rows[:-1])
        choice, way, joints, leap, cost = kernels.through(
            self.chain.arm, self.chain.shape, self.around, self.wanted, path.point[rows], path.axis[rows],
            base.lead[rows], centre, step, count, wraps, moves,
            np.diff(gone[rows], prepend=gone[rows[0]] - self.seconds[rows[0]]), air[rows + 1] > air[before + 1],
            np.full(len(rows), -1) if only is None else only, self.wide,
        )  # fmt: skip
        freedom = centre + step * (choice - count // 2)
        freedom[way < 0] = np.nan
        for axis in np.flatnonzero(wraps):
            there = np.flatnonzero(way >= 0)
            turns = freedom[there, axis] - centre[there, axis]
            freedom[there, axis] = centre[there, axis] + np.unwrap(turns, period=count[axis] * step[axis])
        return _Answer(base, rows, freedom, way, joints, leap, float(cost))


def _heading(path: Toolpath) -> Points:
    """The direction, seen from above, in which the tool leans out of the work, or else lies from its middle; (n,)
    radians that go on from row to row."""
    leaning = np.hypot(path.axis[:, 0], path.axis[:, 1])
    where = np.where(leaning[:, None] > 0.2, path.axis[:, :2], path.point[:, :2])
    angle = np.arctan2(where[:, 1], where[:, 0])
    return np.unwrap(angle) - angle[0] if len(angle) else angle


def _worth_looking_at(task: _Task) -> list[_Base]:
    """Bases about which the tool moves so little that rows far apart can tell of those between; at least one."""
    bases = task.bases()
    rows = [_seen_motion(task, base)[-1] for base in bases]
    return [b for b, r in zip(bases, rows, strict=True) if r <= MOST_COARSE] or [bases[int(np.argmin(rows))]]


def _seen_motion(task: _Task, base: _Base) -> Points:
    """How far the tool has moved as it is seen from the cell, (n,) in rows that this is worth."""
    path, c, s = task.path, np.cos(base.table), np.sin(base.table)

    def seen(v: Points) -> Points:
        return np.column_stack([c * v[:, 0] - s * v[:, 1], s * v[:, 0] + c * v[:, 1], v[:, 2]])

    point, axis = seen(path.point + task.chain.shape.at), seen(path.axis)
    moved = np.linalg.norm(np.diff(point, axis=0, prepend=point[:1]), axis=1) / COARSE_MM
    moved += np.linalg.norm(np.diff(axis, axis=0, prepend=axis[:1]), axis=1) / COARSE_RAD
    return np.cumsum(moved)


def _coarse(task: _Task, base: _Base, extra: NDArray[np.int64]) -> NDArray[np.int64]:
    """Rows that lie as far apart as the motion allows."""
    path, gone = task.path, _seen_motion(task, base)
    share = max(1.0, gone[-1] / MOST_COARSE)
    number = np.floor(gone / share)
    begins = np.flatnonzero(np.append(True, number[1:] != number[:-1]))
    return np.unique(np.concatenate([begins, [len(path) - 1], extra]))


def _first(task: _Task, base: _Base, extra: NDArray[np.int64] | None = None) -> _Answer:
    """The best answer about a base on coarse rows."""
    rows = _coarse(task, base, np.zeros(0, np.int64) if extra is None else extra)
    return task.through(base, rows, base.centre[rows], base.step, base.count, base.wraps, base.moves)


def _refined(task: _Task, answer: _Answer) -> _Answer:
    """The same way with ever finer choices about it."""
    base = answer.base
    there = answer.way >= 0
    for share in REFINED:
        if not there.any():
            return answer
        step = base.step * share
        count = np.where(base.count > 1, 3, 1)
        moves = np.where(base.moves > 0, 2, 0)
        centre = np.where(there[:, None], answer.freedom, base.centre[answer.rows])
        finer = task.through(
            base, answer.rows, centre, step, count, np.zeros(3, np.bool_), moves, np.where(there, answer.way, -1)
        )
        if finer.cost > answer.cost * (1 + 1e-9):
            continue
        answer = finer
    return answer


def _finished(task: _Task, answer: _Answer) -> WholePath:
    """The answer on all rows: freedoms along smooth curves, joints in closed form; where these do not hold between the
    coarse rows, with more of these."""
    extra = np.zeros(0, np.int64)
    for _ in range(ROUNDS):
        fine = _refined(task, answer)
        made, doubtful = _followed(task, fine)
        if len(doubtful) == 0:
            break
        known = len(extra)
        extra = np.union1d(extra, doubtful)
        if len(extra) == known:
            break
        answer = _first(task, answer.base, np.union1d(extra, answer.rows))
    return made


def _followed(task: _Task, answer: _Answer) -> tuple[WholePath, NDArray[np.int64]]:
    """Joints on all rows, and the rows that need a choice of their own."""
    n, chain = len(task.path), task.chain
    rows, there = answer.rows, answer.way >= 0
    freedom, way = np.tile(answer.base.centre[0], (n, 1)), np.full(n, -1, np.int64)
    start, begins = np.zeros((n, 6)), np.zeros(n, np.bool_)
    gone = np.cumsum(task.seconds)
    known = rows[there]
    own_free, own_way, own_joints = answer.freedom[there], answer.way[there], answer.joints[there]
    leaps = answer.leap[there] | np.append(True, np.diff(np.flatnonzero(there)) > 1)[: len(known)]
    # What lies between two coarse rows that follow one another is reached as they are.
    parts = np.flatnonzero(leaps)
    for a, b in itertools.pairwise([*parts.tolist(), len(known)]):
        first = known[a]
        last = known[b - 1] if b == len(known) else _turning_row(task, known[b - 1], known[b])
        span = np.arange(first, last + 1)
        for k in range(3):
            value = own_free[a:b, k]
            curve = PchipInterpolator(gone[known[a:b]], value, extrapolate=False) if b - a > 1 else None
            at = np.clip(gone[span], gone[known[a]], gone[known[b - 1]])
            freedom[span, k] = value[0] if curve is None else curve(at)
        number = np.searchsorted(known[a:b], span, "right") - 1
        way[span] = own_way[a:b][np.clip(number, 0, b - a - 1)]
        begins[first], start[first] = True, own_joints[a]
    point, axis = np.ascontiguousarray(task.path.point), np.ascontiguousarray(task.path.axis)
    spin, table, track = (np.ascontiguousarray(freedom[:, k]) for k in range(3))
    joints = kernels.followed(
        chain.arm, chain.shape, task.wanted, point, axis, answer.base.lead, spin, table, track, way, start, begins
    )
    lost = np.isnan(joints).any(axis=1)
    inside = (joints >= task.wanted.low - 1e-6) & (joints <= task.wanted.high + 1e-6)
    moved = np.abs(np.diff(joints, axis=0, prepend=joints[:1])).max(axis=1)
    leap = begins.copy()
    leap[0] = False
    doubt = (
        (~lost & ~inside.all(axis=1)) | (~leap & (moved > kernels.MOST_STEP)) | (lost & ~np.isin(np.arange(n), rows))
    )
    joints[~inside.all(axis=1)] = np.nan
    values = np.zeros((n, len(chain.joints)))
    values[:, chain.columns] = np.rad2deg(joints)
    if chain.table is not None:
        values[:, chain.table] = np.rad2deg(table)
    if chain.track is not None:
        values[:, chain.track] = track
    values[np.isnan(joints).any(axis=1)] = np.nan
    return _measured(task, values, leap, answer.cost), _about(np.flatnonzero(doubt), rows, n)


def _turning_row(task: _Task, last: int, following: int) -> int:
    """The row up to which the arm goes on as it was, where it comes to a later one by another way: in air if it can."""
    air = np.flatnonzero(task.path.feed[last + 1 : following + 1] <= 0)
    return int(last + air[0]) if len(air) else following - 1


def _about(doubtful: NDArray[np.int64], rows: NDArray[np.int64], n: int) -> NDArray[np.int64]:
    """Some of the rows between coarse ones that do not hold: the first, the last and the middle of each stretch."""
    if len(doubtful) == 0:
        return doubtful
    stretch = np.searchsorted(rows, doubtful)
    found = []
    for s in np.unique(stretch):
        own = doubtful[stretch == s]
        found += [own[0], own[len(own) // 2], own[-1], own[0] - 1, own[-1] + 1]
    return np.unique(np.clip(found, 0, n - 1))


def _measured(task: _Task, values: Points, leap: NDArray[np.bool_], cost: float) -> WholePath:
    chain = task.chain
    some = np.nan_to_num(values)
    joints = np.deg2rad(np.ascontiguousarray(some[:, chain.columns]))
    turn = np.zeros(len(some)) if chain.table is None else np.deg2rad(some[:, chain.table])
    ride = np.zeros(len(some)) if chain.track is None else np.ascontiguousarray(some[:, chain.track])
    clear = kernels.clearances(chain.arm, chain.shape, task.around, joints, turn, ride)
    rotation, place = chain.flange(some)
    along = rotation[:, :, 2]
    cosine = np.einsum("ij,ij->i", along[:, :2], place[:, :2]) / np.maximum(np.linalg.norm(place[:, :2], axis=1), 1e-9)
    return WholePath(
        joints=values,
        leap=leap,
        measures=chain.measures(some),
        clearance_mm=clear,
        elbow_mm=kernels.elbow_heights(chain.arm, chain.shape, joints),
        flange_deg=np.rad2deg(np.arccos(np.clip(cosine, -1.0, 1.0))),
        cost=cost,
    )
