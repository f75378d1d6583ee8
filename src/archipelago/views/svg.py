"""A picture as SVG, its texts as text (W3C, Scalable Vector Graphics 2)."""

from __future__ import annotations

import struct
import zlib
from base64 import b64encode
from html import escape

from archipelago.errors import printable
from archipelago.views.palette import INK, PAPER
from archipelago.views.shapes import Line, Pattern, Picture, Raster, Rectangle, Shape, Text, text_width

FONT = "DejaVu Sans, Verdana, sans-serif"
_STROKES = {
    "/": "M-2,2 l4,-4 M0,8 l8,-8 M6,10 l4,-4",
    "\\": "M-2,6 l4,4 M0,0 l8,8 M6,-2 l4,4",
    "-": "M0,4 h8",
    "|": "M4,0 v8",
    "x": "M0,8 l8,-8 M0,0 l8,8",
    ".": "M3,4 h2",
}


def svg(picture: Picture) -> str:
    """The picture as the text of an SVG file. What comes from a document is quoted."""
    width, height = _number(picture.width), _number(picture.height)
    hatched = list(
        dict.fromkeys(shape.pattern for shape in picture.shapes if isinstance(shape, Rectangle) and shape.pattern.hatch)
    )
    names = {pattern: f"hatch-{number}" for number, pattern in enumerate(hatched)}
    parts = [
        '<?xml version="1.0" encoding="UTF-8"?>',
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{width}" height="{height}" viewBox="0 0 {width} {height}" '
        f'font-family="{FONT}" role="img">',
        f"<title>{_quoted(picture.title)}</title>",
        f"<desc>{_quoted(picture.description)}</desc>",
        *(["<defs>", *(_definition(pattern, name) for pattern, name in names.items()), "</defs>"] if names else []),
        f'<rect width="{width}" height="{height}" fill="{PAPER}"/>',
        *(_shape(shape, names) for shape in picture.shapes),
        "</svg>",
    ]
    return "\n".join(parts) + "\n"


def _definition(pattern: Pattern, name: str) -> str:
    return (
        f'<pattern id="{name}" width="8" height="8" patternUnits="userSpaceOnUse">'
        f'<rect width="8" height="8" fill="{pattern.fill}"/>'
        f'<path d="{_STROKES[pattern.hatch]}" stroke="{INK}" stroke-opacity="0.45" stroke-width="1"/></pattern>'
    )


def _shape(shape: Shape, names: dict[Pattern, str]) -> str:
    if isinstance(shape, Rectangle):
        fill = f"url(#{names[shape.pattern]})" if shape.pattern in names else shape.pattern.fill
        edge = f' stroke="{shape.edge}" stroke-width="{_number(shape.thick)}"' if shape.edge else ""
        rounded = f' rx="{_number(shape.rounded)}"' if shape.rounded else ""
        place = " ".join(
            f'{key}="{_number(value)}"'
            for key, value in (("x", shape.x), ("y", shape.y), ("width", shape.width), ("height", shape.height))
        )
        return f'<rect {place} fill="{fill}"{edge}{rounded}/>'
    if isinstance(shape, Line):
        points = " ".join(f"{_number(x)},{_number(y)}" for x, y in shape.points)
        broken = ' stroke-dasharray="5 4"' if shape.broken else ""
        stroke = f'stroke="{shape.colour}" stroke-width="{_number(shape.thick)}"'
        return f'<polyline points="{points}" fill="none" {stroke}{broken}/>'
    if isinstance(shape, Raster):
        place = f'x="{_number(shape.x)}" y="{_number(shape.y)}"'
        size = f'width="{_number(shape.width)}" height="{_number(shape.height)}" preserveAspectRatio="none"'
        cells = b64encode(_png(shape)).decode()
        return f'<image {place} {size} image-rendering="pixelated" href="data:image/png;base64,{cells}"/>'
    return _text(shape)


def _png(raster: Raster) -> bytes:
    """The cells as a PNG file, a pixel each, with a palette (W3C, Portable Network Graphics, 5 and 11.2)."""
    width, height = len(raster.rows[0]), len(raster.rows)
    head = struct.pack(">II", width, height) + bytes((8, 3, 0, 0, 0))  # eight bits for a pixel, with a palette
    colours = b"".join(bytes.fromhex(colour.removeprefix("#")) for colour in raster.colours)
    pixels = zlib.compress(b"".join(b"\0" + row for row in raster.rows))
    chunks = ((b"IHDR", head), (b"PLTE", colours), (b"IDAT", pixels), (b"IEND", b""))
    return b"\x89PNG\r\n\x1a\n" + b"".join(
        struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data)) for kind, data in chunks
    )


def _text(shape: Text) -> str:
    words = f'font-size="{_number(shape.size)}" fill="{shape.colour}"'
    words += ' font-weight="bold"' if shape.bold else ""
    words += f' text-anchor="{shape.anchor}"' if shape.anchor != "start" else ""
    words += f' transform="rotate(-90 {_number(shape.x)} {_number(shape.y)})"' if shape.turned else ""
    text = f'<text x="{_number(shape.x)}" y="{_number(shape.y)}" {words}>{_quoted(shape.text)}</text>'
    if not shape.ground:
        return text
    width = text_width(shape.text, shape.size, shape.bold) + 4
    x = shape.x - {"start": 2.0, "middle": width / 2, "end": width - 2}[shape.anchor]
    place = f'x="{_number(x)}" y="{_number(shape.y - shape.size)}"'
    ground = f'<rect {place} width="{_number(width)}" height="{_number(shape.size + 3)}" fill="{PAPER}"/>'
    return ground + text


def _quoted(text: str) -> str:
    return escape(printable(text))


def _number(value: float) -> str:
    return f"{value:.1f}".removesuffix(".0")
