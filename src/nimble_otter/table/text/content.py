"""What bytes are: their kind by content, what a picture says of itself, text by its encoding, hex with offsets."""

from __future__ import annotations

import io
from collections.abc import Iterator
from dataclasses import dataclass

from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr

MOST_HEX = 256 * 1024
_TEXT_MARKS = [(b"\xef\xbb\xbf", "utf-8-sig"), (b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16")]


@dataclass(frozen=True, slots=True)
class Content:
    """`word` says the kind ("PNG picture", "text, UTF-8", "bytes"), `suffix` is the one of such files, `facts` what
    a picture's header and metadata say, `text` the whole as text where it is one."""

    word: str
    suffix: str = ".bin"
    is_picture: bool = False
    facts: tuple[tuple[str, str], ...] = ()
    text: str | None = None


def content_of(data: bytes) -> Content:
    """Recognise bytes by their content."""
    import filetype

    known = filetype.guess(data) if data else None
    if known is not None and known.mime.startswith("image/"):
        return _picture(data, known.extension)
    if known is not None:
        return Content(f"{known.extension.upper()} ({known.mime})", f".{known.extension}")
    text, encoding = _as_text(data)
    if text is not None:
        return Content(tr("text, {encoding}", encoding=encoding), ".txt", text=text)
    return Content("bytes")


def _picture(data: bytes, extension: str) -> Content:
    from PIL import ExifTags, Image, UnidentifiedImageError

    word = tr("{extension} picture", extension=extension.upper())
    try:
        with Image.open(io.BytesIO(data)) as picture:
            facts = [("size", f"{grouped(picture.width)} × {grouped(picture.height)}"), ("colours", picture.mode)]
            if getattr(picture, "n_frames", 1) > 1:
                facts.append(("frames", str(picture.n_frames)))  # type: ignore[attr-defined]
            for number, value in picture.getexif().items():
                text = value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)
                facts.append((str(ExifTags.TAGS.get(number, number)), text[:200]))
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, Image.DecompressionBombError) as problem:
        return Content(tr("{word}, damaged", word=word), f".{extension}", facts=(("problem", str(problem)[:200]),))
    return Content(word, f".{extension}", True, tuple(facts))


def _as_text(data: bytes) -> tuple[str | None, str]:
    """(text, name of the encoding), or (None, "") where the bytes are no text."""
    for mark, encoding in _TEXT_MARKS:
        if data.startswith(mark):
            try:
                return data.decode(encoding), encoding.upper().removesuffix("-SIG")
            except UnicodeDecodeError:
                return None, ""
    if b"\0" in data:
        return None, ""
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError:
        if sum(byte < 32 and byte not in (9, 10, 13) for byte in data) or sum(128 <= b < 160 for b in data):
            return None, ""
        return data.decode("iso-8859-1"), tr("ISO 8859-1")
    odd = sum(c < " " and c not in "\t\n\r" for c in text)
    return (text, "UTF-8") if not odd else (None, "")


def hex_lines(data: bytes, width: int = 16) -> Iterator[str]:
    """Offset, bytes in hex, and the characters they are in ASCII; at most MOST_HEX bytes."""
    for at in range(0, min(len(data), MOST_HEX), width):
        line = data[at : at + width]
        letters = "".join(chr(b) if 32 <= b < 127 else "·" for b in line)
        yield f"{at:06x}  {line.hex(' '):<{width * 3 - 1}}  {letters}"
