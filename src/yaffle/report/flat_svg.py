"""SVG as plain as every reader understands it: points where they are seen, marks of patterns drawn, nothing empty.

What plots write has strokes that do not scale with their coordinates, and patterns behind masks: browsers know both,
what lays pages out for paper does not.
"""

import re
from xml.etree import ElementTree

_SVG = "http://www.w3.org/2000/svg"
_FIXED = "non-scaling-stroke"
_NUMBER = re.compile(r"-?\d+\.?\d*(?:e[-+]?\d+)?")
_STEP = re.compile(r"[A-Za-z]|-?\d+\.?\d*(?:e[-+]?\d+)?")
_NO_XML = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
_FONT = '"DejaVu Sans", "Liberation Sans", sans-serif'
Matrix = tuple[float, float, float, float, float, float]
_OF_RECT = {"x", "y", "width", "height", "vector-effect"}
_SAME: Matrix = (1.0, 0.0, 0.0, 1.0, 0.0, 0.0)


def flat_svg(svg: str) -> str:
    """The same picture. Raises ElementTree.ParseError where it is no SVG."""
    ElementTree.register_namespace("", _SVG)
    root = ElementTree.fromstring(_NO_XML.sub("\ufffd", svg))  # Names in captures may hold anything.
    for parent in list(root.iter()):
        for child in list(parent):
            if child.tag in (_tag("title"), _tag("desc")):
                parent.remove(child)
    _draw_patterns(root)
    for group in root.iter(_tag("g")):
        if any(child.get("vector-effect") == _FIXED for child in group):
            _flatten(group)
        _join_rects(group)
        if group.get("font-family"):
            group.set("font-family", _FONT)
    for part in root.iter():
        part.attrib.pop("vector-effect", None)
        if part.tag == _tag("text"):
            part.set("font-family", _FONT)
    while _drop_empty(root):
        pass
    return ElementTree.tostring(root, encoding="unicode")


def _tag(name: str) -> str:
    return f"{{{_SVG}}}{name}"


def _matrix(group: ElementTree.Element) -> Matrix:
    numbers = [float(n) for n in _NUMBER.findall(group.get("transform", ""))]
    return (*numbers,) if len(numbers) == 6 else _SAME  # type: ignore[return-value]


def _seen(matrix: Matrix, x: float, y: float) -> tuple[float, float]:
    a, b, c, d, e, f = matrix
    return a * x + c * y + e, b * x + d * y + f


def _flatten(group: ElementTree.Element) -> None:
    """Takes the group's transformation into the points of what is in it."""
    matrix = _matrix(group)
    for child in group:
        if child.tag == _tag("path"):
            child.set("d", _path(matrix, child.get("d", "")))
        elif child.tag in (_tag("polyline"), _tag("polygon")):
            numbers = [float(n) for n in _NUMBER.findall(child.get("points", ""))]
            points = [_seen(matrix, *pair) for pair in zip(numbers[::2], numbers[1::2], strict=False)]
            child.set("points", " ".join(f"{x:.2f},{y:.2f}" for x, y in points))
        elif child.tag == _tag("rect"):
            x, y, wide, high = (float(child.get(name, 0)) for name in ("x", "y", "width", "height"))
            (left, top), (right, bottom) = _seen(matrix, x, y), _seen(matrix, x + wide, y + high)
            for name, value in (("x", min(left, right)), ("y", min(top, bottom)), ("width", abs(right - left)),
                                ("height", abs(bottom - top))):  # fmt: skip
                child.set(name, f"{value:.2f}")
        elif child.tag in (_tag("circle"), _tag("ellipse")):
            x, y = _seen(matrix, float(child.get("cx", 0)), float(child.get("cy", 0)))
            child.set("cx", f"{x:.2f}")
            child.set("cy", f"{y:.2f}")
        else:
            child.set("transform", group.get("transform", ""))
    group.attrib.pop("transform", None)


def _path(matrix: Matrix, steps: str) -> str:
    found, held = [], list[float]()
    last = ""
    for step in _STEP.findall(steps):
        if step.isalpha():
            found.append(step)
            continue
        held.append(float(step))
        if len(held) == 2:
            x, y = _seen(matrix, *held)
            words = f"{x:.2f},{y:.2f}"
            if words != last or (found and found[-1] in "MC"):
                found.append(words)
            elif found[-1] == "L":
                found.pop()
            last, held = words, []
    return " ".join(found)


def _join_rects(group: ElementTree.Element) -> None:
    """Bars of one look become one path."""
    rects = [child for child in group if child.tag == _tag("rect") and set(child.attrib) <= _OF_RECT]
    if len(rects) < 2 or len(rects) < len(group):
        return
    steps = []
    for rect in rects:
        x, y, wide, high = (float(rect.get(name, 0)) for name in ("x", "y", "width", "height"))
        if wide and high:
            steps.append(
                f"M{x:.2f},{y:.2f} L{x + wide:.2f},{y:.2f} L{x + wide:.2f},{y + high:.2f} L{x:.2f},{y + high:.2f} Z"
            )
        group.remove(rect)
    ElementTree.SubElement(group, _tag("path"), {"d": " ".join(steps)})


def _draw_patterns(root: ElementTree.Element) -> None:
    """A pattern of a masked surface becomes one of the mask's own spots, in the color of the surface."""
    masks = {mask.get("id"): mask for mask in root.iter(_tag("mask"))}
    for pattern in root.iter(_tag("pattern")):
        for surface in list(pattern):
            mask = masks.get((surface.get("mask") or "")[5:-1])
            if mask is None:
                continue
            pattern.remove(surface)
            for spot in mask:
                drawn = ElementTree.SubElement(pattern, spot.tag, spot.attrib)
                drawn.set("fill", surface.get("fill", "#000"))
    for defs in root.iter(_tag("defs")):
        for mask in defs.findall(_tag("mask")):
            defs.remove(mask)


def _drop_empty(root: ElementTree.Element) -> bool:
    dropped = False
    for parent in root.iter():
        for child in list(parent):
            if child.tag == _tag("g") and not len(child):
                parent.remove(child)
                dropped = True
    return dropped
