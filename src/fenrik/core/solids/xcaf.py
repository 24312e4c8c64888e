"""Model files that carry names, colours and assemblies: STEP (AP203, AP214, AP242) read and written.

An assembly is taken apart into its instances; each becomes a body of its own in its place.
"""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from OCP.collections import Sequence_TDF_Label
from OCP.IFSelect import IFSelect_RetDone
from OCP.Message import Message
from OCP.Quantity import Quantity_Color, Quantity_TOC_sRGB
from OCP.STEPCAFControl import STEPCAFControl_Reader, STEPCAFControl_Writer
from OCP.TCollection import TCollection_ExtendedString
from OCP.TDataStd import TDataStd_Name
from OCP.TDF import TDF_Label
from OCP.TDocStd import TDocStd_Document
from OCP.TopLoc import TopLoc_Location
from OCP.XCAFDoc import XCAFDoc_ColorGen, XCAFDoc_ColorSurf, XCAFDoc_DocumentTool, XCAFDoc_ShapeTool

from fenrik.core.errors import fail
from fenrik.core.solids.describe import list_faces


@dataclass(frozen=True)
class NamedShape:
    """A shape in its place with what the file says of it; colours are `#rrggbb`, empty where there is none."""

    shape: Any
    name: str = ""
    colour: str = ""
    face_colours: list[str] = field(default_factory=list)


def read_step(path: Path, name: str) -> list[NamedShape]:
    """The bodies of a STEP file with names and colours; instances of assemblies in their places.

    Raises:
        FenrikError: when the file cannot be read.
    """
    _keep_quiet()
    reader = STEPCAFControl_Reader()
    reader.SetColorMode(True)
    reader.SetNameMode(True)
    if reader.ReadFile(str(path)) != IFSelect_RetDone:
        raise fail("part.file", "cannot be read; it is damaged or not what its ending says.", "Export it again.", name)
    document = TDocStd_Document(TCollection_ExtendedString("fenrik"))
    if not reader.Transfer(document):
        raise fail("part.file", "holds no shape that can be read.", "Export the solid body as STEP again.", name)
    shapes = XCAFDoc_DocumentTool.ShapeTool_s(document.Main())
    colours = XCAFDoc_DocumentTool.ColorTool_s(document.Main())
    free = Sequence_TDF_Label()
    shapes.GetFreeShapes(free)
    found: list[NamedShape] = []
    for i in range(1, free.Length() + 1):
        _walk(free.Value(i), TopLoc_Location(), [], "", colours, found)
    return found


def _walk(label: Any, place: Any, path: list[str], colour: str, colours: Any, found: list[NamedShape]) -> None:
    target = TDF_Label()
    if XCAFDoc_ShapeTool.IsReference_s(label) and XCAFDoc_ShapeTool.GetReferredShape_s(label, target):
        place = place.Multiplied(XCAFDoc_ShapeTool.GetLocation_s(label))
        own = _label_name(label)
        names = [*path, own] if own else path
        _walk(target, place, names, _label_colour(label, colours) or colour, colours, found)
        return
    colour = _label_colour(label, colours) or colour
    if XCAFDoc_ShapeTool.IsAssembly_s(label):
        components = Sequence_TDF_Label()
        XCAFDoc_ShapeTool.GetComponents_s(label, components, False)
        for i in range(1, components.Length() + 1):
            _walk(components.Value(i), place, path, colour, colours, found)
        return
    shape = XCAFDoc_ShapeTool.GetShape_s(label)
    if shape is None or shape.IsNull():
        return
    face_colours = [_shape_colour(face, colours) for face in list_faces(shape)]
    name = " / ".join(path) or _label_name(label)
    found.append(NamedShape(shape.Moved(place), name, colour, face_colours if any(face_colours) else []))


def _label_name(label: Any) -> str:
    attribute = TDataStd_Name()
    return attribute.Get().ToExtString().strip() if label.FindAttribute(TDataStd_Name.GetID_s(), attribute) else ""


def _label_colour(label: Any, colours: Any) -> str:
    colour = Quantity_Color()
    for kind in (XCAFDoc_ColorSurf, XCAFDoc_ColorGen):
        if colours.GetColor_s(label, kind, colour):
            return _hex(colour)
    return ""


def _shape_colour(shape: Any, colours: Any) -> str:
    colour = Quantity_Color()
    return _hex(colour) if colours.GetColor(shape, XCAFDoc_ColorSurf, colour) else ""


def _hex(colour: Any) -> str:
    return str(Quantity_Color.ColorToHex_s(colour, True).ToCString()).lower()


def write_step(shapes: Sequence[NamedShape]) -> bytes:
    """A STEP file (AP214) of named, coloured bodies."""
    document = TDocStd_Document(TCollection_ExtendedString("fenrik"))
    tool = XCAFDoc_DocumentTool.ShapeTool_s(document.Main())
    colours = XCAFDoc_DocumentTool.ColorTool_s(document.Main())
    for body in shapes:
        label = tool.AddShape(body.shape, False)
        if body.name:
            TDataStd_Name.Set_s(label, TCollection_ExtendedString(body.name, True))
        if body.colour:
            colours.SetColor(label, _colour(body.colour), XCAFDoc_ColorGen)
        for face, own in zip(list_faces(body.shape), body.face_colours, strict=False):
            if own and own != body.colour:
                colours.SetColor(tool.AddSubShape(label, face), _colour(own), XCAFDoc_ColorSurf)
    _keep_quiet()
    writer = STEPCAFControl_Writer()
    writer.SetColorMode(True)
    writer.SetNameMode(True)
    with tempfile.TemporaryDirectory(prefix="fenrik-") as folder:
        path = Path(folder) / "model.step"
        if not writer.Transfer(document) or writer.Write(str(path)) != IFSelect_RetDone:
            raise fail("file", "cannot be written as STEP.", "Write a mesh format instead.")
        return path.read_bytes()


def _colour(text: str) -> Any:
    r, g, b = (int(text[i : i + 2], 16) / 255 for i in (1, 3, 5))
    return Quantity_Color(r, g, b, Quantity_TOC_sRGB)


def _keep_quiet() -> None:
    """Statistics of transfers would go to standard output, which belongs to the answers of the command line."""
    Message.DefaultMessenger_s().ChangePrinters().Clear()
