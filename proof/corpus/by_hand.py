"""Layouts chosen by hand: each is hard in a way of its own, as its comment says."""

from corpus.layout import Layout, as_packets
from corpus.values import DATES, FLAGS, PLACES, TEXTS


def _hand(name: str, **more: object) -> Layout:
    return Layout(name=f"hand-{name}", **more)  # type: ignore[arg-type]


LAYOUTS = [
    # Numbers stand elsewhere on the sidecar than on the picture.
    _hand("number-moves", counter="~{n}", sidecar_counter="[{n}]", sidecar_counter_place="name", folders="labels"),
    _hand("number-last", counter="-{n}", counter_place="front", sidecar_counter=".{n}", sidecar_counter_place="end"),
    # Names cut short: in the middle of an emoji, by bytes, and on the sidecar alone.
    _hand("cut-emoji", cap=(21, "units"), half="�", documents="apart"),
    _hand("cut-bytes", cap=(30, "bytes"), half="?", tells_digest=True, container="tar"),
    _hand("cut-sidecar", sidecar_cap=20, tells_name=True, tells_size=True),
    _hand("cut-sidecar-mute", sidecar_cap=24, tells_name=False, tells_reference=False, folders="tree"),
    # A sidecar's name has no ending, so that a JPEG and a PNG of one name share what it could be.
    _hand("no-ending", sidecar_keeps_ending=False, documents="apart", tells_name=False, tells_digest=True),
    _hand("no-ending-mute", sidecar_keeps_ending=False, tells_name=False, format="xml", sidecar_suffix=".xml"),
    # All facts in one index.
    _hand("index-csv", documents="index", format="csv", separator=";", container="tar.gz", parts=3),
    _hand("index-json", documents="index", depth=3, folders="tree", place=PLACES[6]),
    _hand("index-xml", documents="index", format="xml", text=TEXTS[1], date=DATES[12], folders="albums"),
    _hand(
        "index-of-edits", documents="index", folders="tree", shared=True, own_edits=True, corrects=True, tells_name=True
    ),
    # Documents in odd encodings and with odd keys.
    _hand("latin", encoding="latin-1", keys={"title": "títle/x", "date": "d~1", "spot": "lugar ñ"}, documents="apart"),
    _hand("marked", encoding="utf-8-sig", format="xml", sidecar_suffix=".meta", place=PLACES[4]),
    # Dates that only tell the clock, in the writing order of one country, and pictures in folders that are albums.
    _hand("clock-only", date=DATES[13], folders="albums", flag=FLAGS[3], unknown="untitled"),
    _hand("float-seconds", date=DATES[2], folders="tree", container="folder"),
    # Lower-case sidecars of names that differ in nothing but case.
    _hand("lower", sidecar_case="lower", documents="apart", folders="tree", tells_digest=True),
    _hand("lower-beside", sidecar_case="lower", folders="tree", container="folder", objects=True),
    # Words in names are escaped or replaced, suffixes begin with a dot or a space.
    _hand("dotted", rendition=".final", clip=".live", replaced=(" ", "+"), text=TEXTS[2], place=PLACES[5]),
    _hand("spaced", rendition=" (mine)", clip=" film", counter=" no {n}", sidecar_counter=" no {n}", parts=3),
    # Everything apart, in many parts, with the same frame again for each label.
    _hand("scattered", documents="apart", folders="labels", parts=3, tells_reference=True, objects=True, separator="|"),
    _hand("numbers-as-text", place=PLACES[3], flag=FLAGS[1], date=DATES[4], depth=1, container="stored"),
    # A list in each folder that calls pictures by their bare names, which others have, too; many did not come.
    _hand(
        "lists",
        documents="lists",
        folders="tree",
        absent=True,
        corrects=True,
        shared=True,
        tells_size=True,
        parts=3,
        repeats=True,
    ),
    _hand(
        "lists-mute",
        documents="lists",
        format="csv",
        folders="tree",
        separator="|",
        absent=True,
        clip="_motion",
        shared=True,
    ),
    _hand("lists-by-key", documents="lists", keyed=True, folders="tree", corrects=True, depth=3, own_edits=True),
    _hand("index-by-key", documents="index", keyed=True, folders="labels", absent=True, tells_size=True, depth=1),
    _hand("lists-albums", documents="lists", format="xml", folders="albums", corrects=True, date=DATES[9]),
    # Edits and clips that the list tells of, whatever they are called.
    _hand(
        "lists-that-refer",
        documents="lists",
        refers=True,
        folders="tree",
        corrects=True,
        tells_reference=False,
        shared=True,
    ),
    _hand(
        "index-that-refers",
        documents="index",
        format="xml",
        refers=True,
        folders="albums",
        absent=True,
        parts=2,
        date=DATES[9],
    ),
    _hand(
        "rows-that-refer",
        documents="index",
        format="csv",
        refers=True,
        separator="|",
        tells_reference=False,
        clip="_motion",
    ),
    # XMP beside the pictures, under their whole names or their stems, in other capitals.
    as_packets(_hand("packets", folders="tree", shared=True, absent=True, corrects=True, parts=2, fold="upper")),
    as_packets(_hand("packets-by-stem", folders="albums", sidecar_keeps_ending=False, absent=True, fold="nfd")),
    # A camera that writes every picture twice, with one clip, and edits of either.
    _hand("pairs-of-one-stem", folders="tree", shared=True, corrects=True, date=DATES[9]),
    _hand(
        "pairs-of-one-stem-apart",
        documents="apart",
        shared=True,
        sidecar_keeps_ending=False,
        tells_size=True,
        clip=".live",
    ),
]
