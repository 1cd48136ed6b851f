"""Every color and size of the two themes, by meaning. Nothing else in the program names a color."""

from __future__ import annotations

from dataclasses import dataclass, fields


@dataclass(frozen=True)
class Tokens:
    """Colors as #RRGGBB. gain and loss are never red against green, and never the only sign of meaning.

    loss_text and caution_text are a shade darker where the mark's own color on paper would miss a contrast of 4.5.
    """

    name: str
    background: str
    surface: str
    hairline: str
    ink: str
    muted: str
    accent: str
    selected: str
    gain: str
    loss: str
    loss_text: str
    caution: str
    caution_text: str
    holdout: str
    hatch: str
    depth: str
    bar: str


PAPER = Tokens("paper", "#F5F1E8", "#FBF9F4", "#D9D2C3", "#23282D", "#6B6A63", "#6A3D7C", "#EEE5F1", "#1D6F86",
               "#B4552D", "#A84C26", "#8F6A10", "#87630C", "#E6DFF0", "#C9BCDB", "#E4C5B4", "#D8C7DF")
DUSK = Tokens("dusk", "#1E2126", "#262A30", "#3A3F47", "#E7E2D8", "#9B978C", "#B78CCB", "#352C42", "#5DB3CC",
              "#E08A5E", "#E08A5E", "#DDB657", "#DDB657", "#352C42", "#57486B", "#5A3F33", "#4A3D57")
THEMES = {t.name: t for t in (PAPER, DUSK)}
COLOR_FIELDS = tuple(f.name for f in fields(Tokens) if f.name != "name")

# Text sizes in pixels.
SMALL, BODY, LEAD, TITLE = 11, 13, 16, 22


def text_token(token: str) -> str:
    """The token to write text in where a mark would use `token`."""
    return f"{token}_text" if token in ("loss", "caution") else token


def luminance(color: str) -> float:
    """Relative luminance as WCAG 2.1 defines it."""
    channels = [int(color[i:i + 2], 16) / 255 for i in (1, 3, 5)]
    linear = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in channels]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def contrast(a: str, b: str) -> float:
    """Contrast ratio as WCAG 2.1 defines it, 1 to 21."""
    high, low = sorted((luminance(a), luminance(b)), reverse=True)
    return (high + 0.05) / (low + 0.05)


def blend(a: str, b: str, share: float) -> str:
    """The color `share` of the way from a to b."""
    parts = [round(int(a[i:i + 2], 16) * (1 - share) + int(b[i:i + 2], 16) * share) for i in (1, 3, 5)]
    return "#" + "".join(f"{p:02X}" for p in parts)
