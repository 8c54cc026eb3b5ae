"""Contact sheets of a selection: small pictures with captions on pages, as PDF (with text that can be searched) or JPEG.

All measures are in millimetres on A4; a JPEG has _DPI pixels an inch.
"""

import io
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from importlib.util import find_spec
from pathlib import Path

from bramblemoor.disk.durable import replacing
from bramblemoor.errors import NotPossible, WrongUse
from bramblemoor.frames.claims import MARKED, believe
from bramblemoor.frames.showing import as_jpeg, shown
from bramblemoor.library.catalogue import claims_of, shown_by, versions_of
from bramblemoor.library.home import Library
from bramblemoor.library.selection import Selected
from bramblemoor.running import Progress, Stage

_WIDTH, _HEIGHT, _MARGIN, _HEAD, _FOOT = 210.0, 297.0, 12.0, 16.0, 9.0
_GAP, _LINE = 4.0, 3.6
_CAPTION_LINES = 3
_DPI = 150
_PIXELS = 720  # of a picture on its longer side, so that it can be printed
_TEXT, _SMALL = 9.0, 7.0  # points


@dataclass(frozen=True)
class Shown:
    """A cell of a sheet: its pictures (two, where an edited version stands beside its original), and what stands below."""

    pictures: Sequence[bytes]
    caption: Sequence[str]


@dataclass(frozen=True)
class Written:
    """What was written: the files, their pages, the frames on them, and how many of these nothing could be shown of."""

    files: list[Path]
    pages: int
    frames: int
    without_picture: int


def write_sheet(
    selected: Selected, file: Path, *, columns: int, heading: str, side_by_side: bool, progress: Progress
) -> Written:
    """Write a contact sheet to FILE.pdf, or FILE.jpg (FILE-2.jpg and so on for further pages).

    Raises WrongUse for another ending, or a file that is there already; NotPossible where it cannot be written.
    """
    ending = file.suffix.lower()
    if ending not in (".pdf", ".jpg", ".jpeg"):
        raise WrongUse(f"{file} is neither PDF nor JPEG.", "Name it FILE.pdf or FILE.jpg.")
    if file.exists():
        raise WrongUse(f"{file} is there already.", "Name a new file, or delete that one.")
    cells = _cells(selected, side_by_side=side_by_side, progress=progress)
    rows = max(1, int((_HEIGHT - 2 * _MARGIN - _HEAD - _FOOT + _GAP) / (_cell_height(columns) + _GAP)))
    pages = -(-selected.count // (columns * rows))
    drawing: _Drawing = _Pdf(heading) if ending == ".pdf" else _Jpeg()
    empty = 0
    for place, cell in enumerate(cells):
        page, row, column = place // (columns * rows), place // columns % rows, place % columns
        if row == column == 0:
            drawing.begin(heading, f"{page + 1} of {pages}")
        empty += not cell.pictures
        _draw(drawing, cell, columns, row, column)
    try:
        return Written(drawing.save(file), pages, selected.count, empty)
    except OSError as error:
        raise NotPossible(f"{file} cannot be written ({error.strerror}).", "Name a file that you may write.") from error


def _cell_width(columns: int) -> float:
    return (_WIDTH - 2 * _MARGIN - _GAP * (columns - 1)) / columns


def _cell_height(columns: int) -> float:
    return _cell_width(columns) * 0.75 + _CAPTION_LINES * _LINE + 1


def _cells(selected: Selected, *, side_by_side: bool, progress: Progress) -> Iterator[Shown]:
    library = selected.library
    for number, frame in enumerate(selected.frames(), 1):
        both = versions_of(library.db, frame) if side_by_side else [shown_by(library.db, frame)]
        pictures = [
            as_jpeg(image, 82) for one in both if (image := shown(library.root / one.path, _PIXELS)) is not None
        ]
        yield Shown(pictures, _caption(library, frame))
        progress(Stage("drawing the sheet", "frames"), number, selected.count)


def _caption(library: Library, frame: int) -> list[str]:
    facts = believe(claims_of(library.db, frame))
    name = library.db.execute("SELECT name FROM frames WHERE id = ?", (frame,)).fetchone()[0]
    stars = "to be culled" if facts.rating == MARKED else "★" * facts.rating if facts.rating else ""
    taken = f"{facts.taken.shown:%Y-%m-%d %H:%M}" if facts.taken is not None else "undated"
    return [name, f"{taken}   {stars}".strip(), facts.title]


class _Drawing(ABC):
    """Pages that are drawn on; measures in mm from the upper left corner, sizes of text in points."""

    @abstractmethod
    def begin(self, heading: str, page: str) -> None: ...
    @abstractmethod
    def picture(self, jpeg: bytes, x: float, y: float, width: float, height: float) -> None: ...
    @abstractmethod
    def text(self, text: str, x: float, y: float, width: float, size: float) -> None: ...
    @abstractmethod
    def save(self, file: Path) -> list[Path]: ...


def _draw(drawing: _Drawing, cell: Shown, columns: int, row: int, column: int) -> None:
    from PIL import Image

    width, height = _cell_width(columns), _cell_width(columns) * 0.75
    x, y = _MARGIN + column * (width + _GAP), _MARGIN + _HEAD + row * (_cell_height(columns) + _GAP)
    each = width / max(1, len(cell.pictures))
    for place, jpeg in enumerate(cell.pictures):
        with Image.open(io.BytesIO(jpeg)) as image:
            scale = min((each - 0.6) / image.width, height / image.height)
            wide, tall = image.width * scale, image.height * scale
        drawing.picture(jpeg, x + place * each + (each - wide) / 2, y + height - tall, wide, tall)
    if not cell.pictures:
        drawing.text("no picture can be shown", x, y + height - _LINE, width, _SMALL)
    for line, text in enumerate(cell.caption):
        drawing.text(text, x, y + height + 1 + line * _LINE, width, _SMALL)


def font_file() -> Path:
    """A font with most scripts of Europe, as plots use it."""
    spec = find_spec("matplotlib")
    assert spec is not None and spec.origin is not None, "it is installed with this program"
    return Path(spec.origin).parent / "mpl-data/fonts/ttf/DejaVuSans.ttf"


class _Pdf(_Drawing):
    def __init__(self, title: str) -> None:
        from fpdf import FPDF

        self._pdf = FPDF(unit="mm", format="A4")
        self._pdf.set_auto_page_break(False)
        self._pdf.set_title(title)
        self._pdf.add_font("sheet", "", str(font_file()))

    def begin(self, heading: str, page: str) -> None:
        self._pdf.add_page()
        self.text(heading, _MARGIN, _MARGIN, _WIDTH - 2 * _MARGIN - 30, _TEXT + 3)
        self.text(page, _WIDTH - _MARGIN - 26, _MARGIN, 26, _TEXT)

    def picture(self, jpeg: bytes, x: float, y: float, width: float, height: float) -> None:
        self._pdf.image(io.BytesIO(jpeg), x=x, y=y, w=width, h=height)

    def text(self, text: str, x: float, y: float, width: float, size: float) -> None:
        self._pdf.set_font("sheet", size=size)
        text = _shortened(text, lambda told: self._pdf.get_string_width(told) <= width)
        self._pdf.text(x, y + size * 0.352778, text)

    def save(self, file: Path) -> list[Path]:
        with replacing(file) as target:
            target.write(bytes(self._pdf.output()))
        return [file]


class _Jpeg(_Drawing):
    def __init__(self) -> None:
        from PIL import ImageDraw, ImageFont

        self._fonts = {
            size: ImageFont.truetype(str(font_file()), round(size / 72 * _DPI)) for size in (_SMALL, _TEXT, _TEXT + 3)
        }
        self._pen_of = ImageDraw.Draw
        self._pages: list[bytes] = []
        self._page: object = None

    def begin(self, heading: str, page: str) -> None:
        from PIL import Image

        self._keep()
        self._image = Image.new("RGB", (_at(_WIDTH), _at(_HEIGHT)), "white")
        self._page = self._image
        self.text(heading, _MARGIN, _MARGIN, _WIDTH - 2 * _MARGIN - 30, _TEXT + 3)
        self.text(page, _WIDTH - _MARGIN - 26, _MARGIN, 26, _TEXT)

    def _keep(self) -> None:
        if self._page is not None:
            self._pages.append(as_jpeg(self._image, 88))

    def picture(self, jpeg: bytes, x: float, y: float, width: float, height: float) -> None:
        from PIL import Image

        with Image.open(io.BytesIO(jpeg)) as image:
            small = image.resize((max(1, _at(width)), max(1, _at(height))), Image.Resampling.LANCZOS)
            self._image.paste(small, (_at(x), _at(y)))

    def text(self, text: str, x: float, y: float, width: float, size: float) -> None:
        font, pen = self._fonts[size], self._pen_of(self._image)
        text = _shortened(text, lambda told: pen.textlength(told, font=font) <= _at(width))
        pen.text((_at(x), _at(y)), text, fill=(30, 34, 38), font=font)

    def save(self, file: Path) -> list[Path]:
        self._keep()
        files = [file, *(file.with_stem(f"{file.stem}-{number}") for number in range(2, len(self._pages) + 1))]
        for place, content in zip(files, self._pages, strict=True):
            with replacing(place) as target:
                target.write(content)
        return files


def _shortened(text: str, fits: Callable[[str], bool]) -> str:
    """A text that fits: what stands in its middle is left out, as names of one shoot differ at their ends."""
    told, keep = text, len(text)
    while told and not fits(told):
        keep -= 1
        told = f"{text[: keep // 2]}…{text[len(text) - (keep - keep // 2) :]}" if keep > 1 else ""
    return told


def _at(millimetres: float) -> int:
    return round(millimetres / 25.4 * _DPI)
