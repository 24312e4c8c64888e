"""Commands for what comes before the first cut: models, features, measures, tools, cutting data."""

from __future__ import annotations

import argparse
import json
import math
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import ValidationError
from scipy.spatial.transform import Rotation

from fenrik.cli.codes import DONE
from fenrik.core.cutting.load import Limits, propose
from fenrik.core.cutting.materials import Material
from fenrik.core.errors import fail
from fenrik.core.machines import Chain, Machine
from fenrik.core.recognise import recognise
from fenrik.core.recognise.features import Vector
from fenrik.core.robots import Arm, all_postures, arm_from_urdf
from fenrik.core.robots.inverse import family_of
from fenrik.core.solids import Solid, read_solid
from fenrik.core.solids.measuring import Spot, measure_between, measure_one
from fenrik.core.solids.revisions import match_faces
from fenrik.core.solids.writing import WRITE_SUFFIXES, write_solid
from fenrik.core.toolpath.cl_reading import read_cl
from fenrik.core.tools import Tool
from fenrik.core.tools.library import tools_from_csv, tools_from_json, tools_to_csv, tools_to_json
from fenrik.core.tools.running import as_cutting
from fenrik.demo.shop import SHOP_MATERIALS, SHOP_TOOLS


def add_commands(commands: Any) -> None:
    """Put these commands beside the others."""
    convert = commands.add_parser("convert", help=f"write a model in another format ({', '.join(WRITE_SUFFIXES)})")
    convert.add_argument("file", type=Path)
    convert.add_argument("out", type=Path)
    convert.add_argument("--scale", type=float, default=1.0)
    convert.add_argument("--deflection", type=float, default=0.01, help="of triangles, mm")
    health = commands.add_parser("health", help="check a model: open, thin, tiny, invalid, crossing itself")
    health.add_argument("file", type=Path)
    features = commands.add_parser("features", help="recognise holes, pockets and the like")
    features.add_argument("file", type=Path)
    features.add_argument(
        "--from", dest="look", default="", help="direction, for example 0,0,1; all where none is given"
    )
    compare = commands.add_parser("compare", help="what changed between two versions of a model")
    compare.add_argument("before", type=Path)
    compare.add_argument("after", type=Path)
    measure = commands.add_parser("measure", help="measure one face or edge, or between two, as `f12` or `e3`")
    measure.add_argument("file", type=Path)
    measure.add_argument("spots", nargs="+", help="one or two of f0, f1 …, e0, e1 …, or x,y,z")
    tools = commands.add_parser("tools", help="read a tool list (JSON or CSV; none: the shop's) and write it in a form")
    tools.add_argument("file", type=Path, nargs="?")
    tools.add_argument("--as", dest="form", choices=("json", "csv"), default="json")
    speeds = commands.add_parser("speeds", help="cutting data for a tool of the shop in a material")
    speeds.add_argument("tool", type=int)
    speeds.add_argument("material")
    speeds.add_argument("--load", type=float, default=0.5, help="0 cautious, 1 hard")
    speeds.add_argument("--rpm", type=float, default=12_000, help="fastest spindle speed")
    speeds.add_argument("--feed", type=float, default=10_000, help="fastest feed, mm/min")
    speeds.add_argument("--power", type=float, default=11, help="kW")
    speeds.add_argument("--torque", type=float, default=60, help="Nm")
    cl = commands.add_parser("cl", help="read cutter location text (ISO 3592); print what is understood and what not")
    cl.add_argument("file", type=Path)
    arm = commands.add_parser("arm", help="joints of an arm (its document or a URDF file), and what it reaches")
    arm.add_argument("file", type=Path)
    arm.add_argument("--tip", default="", help="of a URDF file, the link that counts as the flange")
    arm.add_argument("--at", default="", help="six values in degrees: where the flange stands")
    arm.add_argument("--reach", default="", help="x,y,z and turns about x, y, z of the base: all postures there")
    machine = commands.add_parser("machine", help="joints, ends and bodies of a machine (a JSON file)")
    machine.add_argument("file", type=Path)
    machine.add_argument("--at", default="", help="values of joints, for example X=10,A=30: where the tool stands")
    machine.add_argument("--reach", default="", help="x,y,z,i,j,k of the tool in the work: all values that reach it")
    machine.add_argument("--tool", type=float, default=0.0, help="length of the tool, mm")


def _cl(options: argparse.Namespace) -> int:
    """What a cutter location text says, and what of it is not understood."""
    read = read_cl(bytes_of(options.file, "file").decode("utf-8", "replace"))
    low, high = (np.round(f(read.path.point, axis=0), 6).tolist() if len(read.path) else None for f in (np.min, np.max))
    return _print(
        {
            "records": len(read.records),
            "understood": len(read.records) - len(read.wrong),
            "unit": read.unit or "none named, taken as mm",
            "tools": read.tools,
            "cutters": [list(c) for c in read.cutters],
            "motions": len(read.path),
            "cutting_mm": round(read.path.cut_length_mm(), 3),
            "low_mm": low,
            "high_mm": high,
            "leans": bool(len(read.path) and (read.path.axis[:, 2] < 1 - 1e-9).any()),
            "not_understood": [{"line": r.line, "text": r.text, "why": r.wrong} for r in read.wrong],
        }
    )


def _read(path: Path, scale: float = 1.0) -> Solid:
    return read_solid(bytes_of(path, "file"), path.name, scale)


def bytes_of(path: Path, field: str) -> bytes:
    """The bytes of a file; an error that names the field where it cannot be read."""
    try:
        return path.read_bytes()
    except OSError as error:
        raise fail(field, f"cannot be read: {error.strerror}.", "Check the path.", path.name) from error


def _print(value: Any) -> int:
    print(json.dumps(value, indent=2, ensure_ascii=False))
    return DONE


def _convert(options: argparse.Namespace) -> int:
    data = write_solid(_read(options.file, options.scale), options.out.suffix, options.deflection)
    options.out.write_bytes(data)
    return _print({"file": options.out.name, "bytes": len(data)})


def _health(options: argparse.Namespace) -> int:
    from fenrik.core.solids.health import check_thoroughly

    return _print([asdict(n) for n in check_thoroughly(_read(options.file))])


def _numbers(text: str, field: str, count: int = 3) -> list[float]:
    try:
        found = [float(v) for v in text.split(",")]
    except ValueError as error:
        raise fail(field, "is not numbers with commas between.", "Write for example 0,0,1.", text) from error
    if len(found) != count or not all(math.isfinite(v) for v in found):
        raise fail(field, f"is not {count} numbers.", "Write for example 0,0,1.", text)
    return found


def _vector(text: str, field: str) -> Vector:
    x, y, z = _numbers(text, field)
    return x, y, z


def _features(options: argparse.Namespace) -> int:
    looks = [_vector(options.look, "from")] if options.look else None
    return _print(recognise(_read(options.file), looks).model_dump())


def _compare(options: argparse.Namespace) -> int:
    changes = match_faces(_read(options.before), _read(options.after))
    same = sum(c.change == "same" for c in changes)
    return _print({"same": same, "changes": [asdict(c) for c in changes if c.change != "same"]})


def _measure(options: argparse.Namespace) -> int:
    solid = _read(options.file)
    if len(options.spots) > 2:
        raise fail("spots", "are more than two.", "Name one or two.", options.spots)
    spots = [_spot(solid, s) for s in options.spots]
    measured = measure_one(spots[0]) if len(spots) == 1 else measure_between(*spots)
    return _print(measured.model_dump())


def _spot(solid: Solid, text: str) -> Spot:
    if text[:1] in "fe" and text[1:].isdigit():
        items: list[Any] = solid.faces if text[0] == "f" else solid.edges
        index = int(text[1:])
        if index >= len(items):
            raise fail(
                "spots", f"names one that is not there; the model has {len(items)}.", "Use a smaller number.", text
            )
        return Spot(solid, face=index) if text[0] == "f" else Spot(solid, edge=index)
    return Spot(place=_vector(text, "spots"))


def tool_list(file: Path | None) -> list[Tool]:
    """The tools of a list (JSON or CSV); the shop's where none is named."""
    if file is None:
        return tools_from_json(json.dumps({"tools": SHOP_TOOLS}))
    data = bytes_of(file, "file")
    return tools_from_json(data) if data.lstrip()[:1] in (b"{", b"[") else tools_from_csv(data.decode("utf-8-sig"))


def _tools(options: argparse.Namespace) -> int:
    tools = tool_list(options.file)
    print(tools_to_csv(tools) if options.form == "csv" else tools_to_json(tools))
    return DONE


def _speeds(options: argparse.Namespace) -> int:
    tools = {t.number: t for t in tools_from_json(json.dumps({"tools": SHOP_TOOLS}))}
    materials = {m["name"]: Material.model_validate(m) for m in SHOP_MATERIALS}
    if options.tool not in tools:
        raise fail("tool", "is not in the shop's library.", f"Use one of {', '.join(map(str, tools))}.", options.tool)
    if options.material not in materials:
        raise fail("material", "is not known.", f"Use one of: {'; '.join(materials)}.", options.material)
    limits = Limits(options.rpm, options.feed, options.power, options.torque)
    return _print(
        propose(as_cutting(tools[options.tool]), materials[options.material], limits, options.load).model_dump()
    )


def _machine(options: argparse.Namespace) -> int:
    try:
        machine = Machine.model_validate_json(bytes_of(options.file, "machine"))
    except ValidationError as error:
        first = error.errors()[0]
        field = ".".join(str(p) for p in first["loc"]) or "machine"
        raise fail(field, f"is wrong: {first['msg']}.", "Correct the file.", options.file.name) from error
    chain = machine.chain(options.tool)
    if options.at:
        return _print(_standing(chain, options.at))
    if options.reach:
        wanted = _numbers(options.reach, "reach", 6)
        found = chain.inverse(np.array(wanted[:3]), np.array(wanted[3:]))
        names = [j.name for j in chain.joints]
        return _print({"solutions": [dict(zip(names, v.tolist(), strict=True)) for v in found]})
    joints = [j.model_dump() | {"unit": j.unit} for j in chain.joints]
    table = {"name": "table", "carries": "work", "size_mm": list(machine.table_mm)}
    bodies = [table, *(b.model_dump() for b in machine.bodies)]
    return _print({"name": machine.name, "joints": joints, "bodies": bodies})


def _arm(options: argparse.Namespace) -> int:
    """The joints of an arm, where its flange stands, or all postures that reach a pose."""
    data = bytes_of(options.file, "arm")
    meshes: list[str] = []
    if data.lstrip()[:1] == b"<":
        read = arm_from_urdf(data, options.tip)
        arm, meshes = read.arm, read.meshes
    else:
        try:
            arm = Arm.model_validate_json(data)
        except ValidationError as error:
            first = error.errors()[0]
            field = ".".join(str(p) for p in first["loc"]) or "arm"
            raise fail(field, f"is wrong: {first['msg']}.", "Correct the file.", options.file.name) from error
    if options.at:
        turn, place = arm.forward(np.array(_numbers(options.at, "at", 6)))
        return _print({"place_mm": place[0].tolist(), "turn": turn[0].tolist()})
    if options.reach:
        wanted = _numbers(options.reach, "reach", 6)
        turn = Rotation.from_euler("xyz", wanted[3:], degrees=True).as_matrix()
        found = all_postures(arm, turn[None], np.array([wanted[:3]]))[0]
        found = found[~np.isnan(found).any(axis=1)]
        within = ((found >= arm.low) & (found <= arm.high)).all(axis=1)
        postures = [{"joints_deg": v.tolist(), "within_ends": bool(w)} for v, w in zip(found, within, strict=True)]
        return _print({"postures": postures})
    return _print(arm.model_dump() | {"family": family_of(arm.screws()), "meshes": meshes})


def _standing(chain: Chain, at: str) -> dict[str, Any]:
    """The pose of the tool in the work for values of joints given as name=value."""
    names = {j.name.lower(): k for k, j in enumerate(chain.joints)}
    values = np.zeros(len(chain.joints))
    for word in at.split(","):
        name, _, value = word.partition("=")
        if name.strip().lower() not in names:
            raise fail("at", "names a joint that the machine does not have.", f"Use {', '.join(names)}.", name.strip())
        values[names[name.strip().lower()]] = _numbers(value, "at", 1)[0]
    pose = chain.forward(values)
    return {"point_mm": pose.point[0].tolist(), "axis": pose.axis[0].tolist()}


COMMANDS = {
    "convert": _convert,
    "health": _health,
    "features": _features,
    "compare": _compare,
    "machine": _machine,
    "cl": _cl,
    "arm": _arm,
    "measure": _measure,
    "tools": _tools,
    "speeds": _speeds,
}
