"""How charts look: colours of both themes, dashes, marks and hatches, so that colour never stands alone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

FONTS = Path(__file__).parents[2] / "desktop" / "assets" / "fonts"
FONT = "Inter"
TITLE_PX, TEXT_PX = 14.5, 11.0

DASHES: Sequence[tuple[float, ...]] = (
    (), (5, 2.2), (1.3, 1.7), (7, 2, 1.3, 2), (3, 1.4), (9, 2.5), (5, 1.5, 1.3, 1.5, 1.3, 1.5), (2.2, 2.2),
    (10, 2, 3, 2), (1.3, 3), (6, 4), (4, 1, 1, 1),
)  # fmt: skip
SHAPES = ("o", "s", "^", "D", "v", "P", "X", "<", ">", "p", "h", "*")
HATCHES = ("", "////", "....", "xxxx", "\\\\\\\\", "----", "++++", "oo", "||||", "//..", "\\\\..", "--..")

_RIVER_LIGHT = ("#17636C", "#B97A10", "#3C5AA6", "#7A3E63", "#5F9EA0", "#8A5430", "#7F8FC9", "#5B6B2F", "#C48FAF",
                "#2E4A50", "#D3A95C", "#6F6A5C")  # fmt: skip
_RIVER_DARK = ("#6FC3C9", "#E5AE4B", "#8FA8E8", "#D490B6", "#3E969D", "#D29B73", "#B9C6F2", "#A9BF6B", "#9A5F82",
               "#B7D6D6", "#8A6A2C", "#B5AFA0")  # fmt: skip
_STRONG_LIGHT = ("#0B4F57", "#C8500A", "#2545B8", "#8C1D5C", "#1E8C4E", "#5A3A1E", "#6B7BE0", "#8F7A00", "#D0488F",
                 "#101C1F", "#E08A3C", "#555555")  # fmt: skip
_STRONG_DARK = ("#59E0E8", "#FF9A4D", "#93B0FF", "#FF8FC8", "#63E09A", "#E0B48A", "#C3CCFF", "#F0DC50", "#FF6BB5",
                "#FFFFFF", "#FFC58A", "#BBBBBB")  # fmt: skip
_GREY_LIGHT = tuple(f"#{v:02x}{v:02x}{v:02x}" for v in (30, 110, 70, 150, 50, 130, 90, 170, 20, 120, 80, 160))
_GREY_DARK = tuple(f"#{v:02x}{v:02x}{v:02x}" for v in (235, 150, 200, 110, 220, 130, 180, 100, 245, 140, 190, 120))


@dataclass(frozen=True, slots=True)
class Look:
    """Colours of one theme."""

    surface: str
    ink: str
    muted: str
    faint: str
    line: str
    grid: str
    picked: str
    warn: str
    palettes: dict[str, tuple[str, ...]]
    shades: dict[str, tuple[str, ...]]
    """From little to much."""

    def colour(self, palette: str, place: int) -> str:
        """The colour of a place among the names."""
        own = self.palettes[palette]
        return own[(place % 100 + 3 * (place // 100)) % len(own)]


LIGHT = Look(
    "#FFFFFF", "#1D2B2F", "#4F5D61", "#657071", "#D9D5C9", "#ECE9E0", "#2F8A93", "#7A3E63",
    {"river": _RIVER_LIGHT, "strong": _STRONG_LIGHT, "grey": _GREY_LIGHT},
    {"river": ("#E4F0EF", "#BFDCDC", "#5F9EA0", "#17636C", "#0C343A"),
     "strong": ("#FFF3D6", "#F2B94B", "#C8500A", "#6B1B4A", "#1B0B33"), "grey": ("#F0F0F0", "#1A1A1A")},
)  # fmt: skip
DARK = Look(
    "#1C2827", "#E7E5DC", "#A3AFAD", "#8E9A98", "#2E3C3A", "#263433", "#3E969D", "#D490B6",
    {"river": _RIVER_DARK, "strong": _STRONG_DARK, "grey": _GREY_DARK},
    {"river": ("#1D3436", "#24484B", "#3E969D", "#6FC3C9", "#D8F0F0"),
     "strong": ("#2A1B3A", "#8C1D5C", "#FF9A4D", "#FFE3A3"), "grey": ("#2A2A2A", "#F5F5F5")},
)  # fmt: skip
LOOKS = {"light": LIGHT, "dark": DARK}
