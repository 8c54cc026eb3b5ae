"""The story that the demo tells: chapters, each with why, and the commands that a user would type."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from bramblemoor.standins.cards import CARD_MISFIRES

DEPOTS = (("heron", "studio", "ssd"), ("otter", "studio", "hdd"), ("dipper", "cottage", "hdd"))


class Stage(Protocol):
    """What a chapter can do: say something, run commands, and make something happen in the made-up world."""

    def say(self, text: str) -> None: ...
    def enter(self, folder: str) -> None: ...
    def run(self, *arguments: str, shows: Sequence[str] = (), expect: int = 0) -> None: ...
    def shell(self, command: str, needs: str) -> None: ...
    def serve(self, service: str, *faults: str) -> str: ...
    def newest(self, folder: str) -> str: ...
    def first(self, folder: str, pattern: str) -> str: ...
    def rename(self, old: str, new: str) -> None: ...
    def write(self, name: str, text: str) -> None: ...
    def retitle(self, name: str, title: str) -> None: ...
    def rot(self, folder: str) -> None: ...
    def remove(self, name: str) -> None: ...
    def ask(self, *arguments: str) -> Any: ...
    def stopping(self, *arguments: str, after: int, shows: Sequence[str] = ()) -> None: ...
    def prove(self, what: str) -> None: ...


@dataclass(frozen=True)
class Chapter:
    """`again` says that it can be told once more in a world in which it, or what follows, has happened already."""

    name: str
    title: str
    why: str
    tell: Callable[[Stage], None]
    again: bool = False


def _frames(receipt: Any) -> int:
    return sum(int(one["amount"]["frames"]) for one in receipt["kept"])


def _cloud(stage: Stage) -> None:
    stage.enter("")
    stage.run(
        "new", "library", "--name", "Withymere", "--site", "studio", "--medium", "ssd", "--stand-in", "work-ssd",
        shows=("Its rule",),
    )  # fmt: skip
    stage.enter("library")
    address = stage.serve("thrushfield", "--drop", "1")
    stage.run(
        "service", "add", "thrushfield", address, "--token-file", "../thrushfield/token.txt", shows=("Signed in",)
    )
    stage.run("service", "survey", shows=("holds", "reduced"))
    stage.say("Everything is ordered, in small parts. On purpose, the service breaks off the first one halfway.")
    stage.run("order", "--size", "2MB", shows=("Ordered as",))
    stage.run("collect", shows=("resumed", "are here"))
    stage.say(
        "All parts are unpacked as one: sidecars find their pictures, pictures their true dates, and what came once for each"
        " album is stored once. The receipt accounts for every file."
    )
    stage.run("unpack", expect=1, shows=("^came in", "  new in", "  left out", "x the s"))
    stage.say("What came of it: a picture, and everything that is known of it.")
    stage.run("show", "ALD_0669.jpg", shows=("^title", "^taken", "^location", "^people", "^keywords", "^albums"))
    told = stage.ask("receipt", "1")
    lacking = ", ".join(one["name"] for one in told["left_out"] if one["amount"]["frames"])
    stage.prove(
        f"{told['came_in']['frames']} frames came out of a cloud account through a link that broke; {_frames(told)} are here, and"
        f" what is missing is named: {lacking}"
    )


def _unknown(stage: Stage) -> None:
    from bramblemoor.standins.world import locations  # draws, which takes a moment to load

    stage.enter("library")
    address = stage.serve("pipit-lane")
    stage.run("service", "add", "pipit-lane", address, "--token-file", "../pipit-lane/token.txt", shows=("Signed in",))
    stage.run("order", "pipit-lane", shows=("Ordered as",))
    stage.run("collect", shows=("are here",))
    export = stage.newest("incoming/pipit-lane")
    stage.say(
        "A description of its exports, a dialect, is drafted by looking at one; what agrees with the pictures is believed."
    )
    stage.remove("pipit-draft.toml")
    stage.run("dialect", "draft", export, "--out", "../pipit-draft.toml", shows=("%",))
    stage.run(
        "dialect", "try", export, "--dialect", "../pipit-draft.toml",
        shows=("nothing was written", "^records"),
    )  # fmt: skip
    stage.say(
        "In fact a finished dialect ships with Bramblemoor. Small copies of pictures that are here are recognised; and where the"
        " service tells a position only, names of one's own say where that is."
    )
    stage.write("companions/locations.toml", locations())
    stage.run("unpack", shows=("^came in", "x a reduced"))
    copy = stage.first("pictures/2024", "??????????.jpg")
    stage.say("Our own word on one of them stands above all others, and can be taken back.")
    stage.run("tell", copy, "--title", "Bundles, at last", "--keyword", "reeds", shows=("take it back",))
    stage.run("show", copy, shows=("^title", "^taken", "^location", "the map"))
    stage.prove(
        f"{stage.ask('receipt', '2')['came_in']['frames']} small copies from a service that nobody had described were joined with"
        " what it tells of them"
    )


def _edits(stage: Stage) -> None:
    stage.enter("library")
    address = stage.serve("emberlow")
    stage.run("service", "add", "emberlow", address, "--token-file", "../emberlow/token.txt", shows=("Signed in",))
    stage.run("fetch", "emberlow", shows=("with edits", "^came in", "  new in"))
    told = stage.ask("receipt")
    stage.prove(f"{told['came_in']['frames']} raws kept their folders and an editor's work ({told['about']['frames']})")


def _copies(stage: Stage) -> None:
    stage.enter("library")
    for name, site, medium in DEPOTS:
        stage.run(
            "depot", "add", name, f"../depots/{name}", "--site", site, "--medium", medium, "--stand-in", f"{name}-{medium}",
            shows=("Made the depot",),
        )  # fmt: skip
    stage.say("One run copies to all three. Each file is read once, written to each, and read back from each.")
    stage.run("backup", shows=("^to be held", "copied and"))
    stage.say("A depot is plain files and a list of checksums. No Bramblemoor is needed to check it.")
    stage.shell(
        "cd ../depots/otter && sha256sum -c --quiet manifest-sha256.txt && echo every file matches", "sha256sum"
    )
    stage.run("standing", shows=("safe", "^Rule", "sound ", "^all "))
    told = stage.ask("standing")
    sites = {one["site"] for one in told["copies"]}
    stage.prove(
        f"{len(told['copies'])} copies at {len(sites)} sites were read back, and sha256sum agrees: of {told['frames']} frames"
        f" {told['states']['sound']} are sound"
    )


def _card(stage: Stage) -> None:
    stage.enter("library")
    for name in ("card", "second-card"):
        stage.remove(name)
        stage.run("stand-in", name, f"../{name}")
    shoots = (
        "--subject",
        "Reed cutting",
        "--subject",
        "Lantern walk",
        "--location",
        "Saltby Fen",
        "--location",
        "Withymere",
    )
    stage.say(
        "First a plan: what is there, what of it shows nothing, what is there twice, and what the frames would be called."
    )
    stage.run(
        "intake", "../card", *shoots, "--split", "6h", "--dry-run",
        shows=("holds", "to be taken", "left:", "2026-05-09", "named:", "Nothing is to", "black", "blank", "blown", "They need"),
    )  # fmt: skip
    stage.say(
        "What shows nothing is left out, by name. The rest is read once, and written to library and depot in that reading."
    )
    leave = [word for name in CARD_MISFIRES for word in ("--leave", name)]
    stage.run(
        "intake", "../card", *shoots, "--split", "6h", *leave, "--second-copy", "heron", "--yes",
        shows=("second copy", "^found there", "  new in", "  left out", "balance"),
    )  # fmt: skip
    told = stage.ask("receipt")
    stage.say(
        "The other camera's clock is an hour behind; its frames continue the numbers. One picture there was cut short."
    )
    stage.run(
        "intake", "../second-card", "--subject", "Reed cutting", "--location", "Saltby Fen", "--clock", "Pocket 4=+1h", "--yes",
        expect=1, shows=("(there: ", "named:", "it is taken in as it is.", "^found there", "  new in"),
    )  # fmt: skip
    stage.run(
        "shoot", "rename", "Lantern walk", "--subject", "Lantern fair", "--yes", shows=("will be moved", "  moved")
    )
    stage.run(
        "tell",
        "--where",
        "shoot=2026-05-09 Reed*",
        "--keyword",
        "mist",
        "--yes",
        shows=("^keyword", "  told", "take it"),
    )
    stage.run("cull", "mark", "--shoot", "2026-05-09 Reed*", "--number", "4-5", shows=("^to be told", "  told"))
    stage.run("cull", "remove", "--marked", "--yes", shows=("will leave", "  taken"))
    stage.say("May the cards be erased? The second one's pictures are on one drive only.")
    stage.run("erasable", "../second-card", expect=1, shows=("^No", "(ssd, studio)", "ALD_9991", "Next"))
    stage.run("page", shows=("frames,", "opens in"))
    stage.run("backup", shows=("^to be held", "copied and", "moved there"))
    stage.run("erasable", "../second-card", shows=("^Yes", "(ssd, studio)"))
    stage.run("erasable", "../card", shows=("^Yes", "(ssd, studio)", "Not here", ": on "))
    stage.say(
        "The page lies on each drive now, with thumbnails, a map, and where copies lie: it opens in any browser, with no tool."
    )
    stage.shell("ls ../depots/otter/data/looking/page", "ls")
    stage.prove(
        f"of {told['came_in']['frames']} frames on a card {_frames(told)} became two shoots, in one reading with a second copy;"
        " the others are named with why; and a card may be erased once two copies of each were read back"
    )


def _changes(stage: Stage) -> None:
    stage.enter("library")
    stage.rename("pictures/2026/2026-05", "pictures/2026/2026-05 Lantern fair")
    stage.retitle("ALD_0669.jpg.xmp", "Lanterns, from the weir")
    stage.rename("../depots/dipper", "../at the cottage")
    stage.run("stocktake", shows=("moved or renamed", "looked over"))
    stage.say(
        "At the depots what moved is moved, not copied anew; what was replaced stays there as an earlier version."
    )
    stage.run("backup", expect=1, shows=("Passed over", "copied and", "moved there"))
    moved = sum(one["amount"]["files"] for one in stage.ask("receipt")["kept"] if "moved" in one["what"])
    stage.run("earlier", "otter", shows=("in earlier/",))
    stage.say("Back from the cottage, the third drive catches up.")
    stage.rename("../at the cottage", "../depots/dipper")
    stage.run("backup", shows=("dipper: ",))
    stage.prove(f"{moved} files were moved at the depots, not copied anew, and what was replaced is kept there")


def _damage(stage: Stage) -> None:
    stage.enter("library")
    stage.rot("depots/heron/data/pictures/2026")
    stage.run("verify", expect=1, shows=("amiss", " x ", "      heron: "))
    told = stage.ask("receipt")
    stage.run("mend", shows=("good again",))
    stage.run("standing", shows=("safe",))
    stage.prove(
        f"one flipped bit and one deleted file: {len(told['left_out'])} of {told['came_in']['files']:,} files were found amiss,"
        " and mended from a good copy"
    )


def _what_if(stage: Stage) -> None:
    stage.enter("library")
    stage.run("standing", "--if-lost", "studio", expect=1, shows=("If studio", "would be", "come back"))
    stage.say("So the cottage's drive had better be readable. A drill restores some of it, to nowhere in particular.")
    stage.run("drill", "dipper", "--files", "100", shows=("came back", "unreadable"))
    told = stage.ask("standing", "--if-lost", "studio")
    left = told["frames"] - told["states"].get("lost", 0)
    stage.prove(
        f"with the studio gone {left} of {told['frames']} frames would come back from the cottage; some files did, to try it"
    )


def _year(stage: Stage) -> None:
    stage.enter("library")
    stage.run("bind", "2024", "--at", "heron", "--at", "otter", shows=("is bound",))
    told = stage.ask("receipt")
    stage.run("free", "2024", "--yes", shows=("has left",))
    stage.say("The library still finds its frames, and says which drive to fetch. That drive opens by itself.")
    stage.run("find", "reed", "--until", "2024", "--most", "3", shows=("put away", "frames taken"))
    stage.run("depot", "alone", "otter", "--year", "2024", shows=("Read and", "Nothing outside"))
    stage.say("Which years would go on which drives, with their twins, if we bought these?")
    stage.run(
        "allot", "--drive", "red=18MB@studio", "--drive", "blue=18MB@cottage", "--drive", "green=14MB@studio",
        "--drive", "grey=14MB@cottage", "--plot", "../years-on-drives.png",
        shows=("^drive ", "MB", "Drawn"),
    )  # fmt: skip
    stage.run("unbind", "2024", shows=("open for work",))
    stage.run("backup", shows=("balance",))
    stage.prove(
        f"a year left the fast drive after {len(told['kept'])} copies of its files were read and found identical; it came back"
    )


def _archive(stage: Stage) -> None:
    stage.enter("library")
    stage.remove("archive")
    stage.run("pack", "../archive", "--year", "2025", "--size", "2MB", shows=("Packed",))
    stage.run("volumes", "../archive", shows=("Archive",))
    told = stage.ask("receipt")
    stage.prove(
        f"{_frames(told)} frames lie in {told['about']['volumes']} volumes, each of which needs none of the others"
    )


def _moving(stage: Stage) -> None:
    stage.enter("library")
    wharf, field = stage.serve("stonewharf"), stage.serve("thrushfield", "--fault", "slow=0.25")
    stage.run(
        "service", "add", "stonewharf", wharf, "--kind", "folders", "--user", "keeper", "--token-file", "../stonewharf/token.txt",
        shows=("Signed in",),
    )  # fmt: skip
    stage.run("service", "add", "thrushfield", field, "--token-file", "../thrushfield/token.txt", shows=("Signed in",))
    stage.run("service", "survey", "stonewharf", shows=("holds", "shown twice", "Fairs", "Valley", "Work"))
    stage.say("What can each of them do, and what does the new one keep? That is asked before anything is sent.")
    stage.run("service", "powers", "stonewharf", shows=("make folders", "move files", "digests"))
    move = ("migrate", "stonewharf", "thrushfield", "--arrival", "From Stonewharf", "--folders-as-albums")
    stage.run(
        *move,
        "--dry-run",
        shows=("to be sent", "kept ", "pictures", "folders", "date", "title", "rating", "only the plan"),
    )
    stage.say("It is begun, and stopped from another window after a while.")
    stage.stopping(*move, "--yes", after=10, shows=("Stopped", "Go on"))
    stage.say("The same command goes on; what arrived is listed, and some of it fetched back and compared.")
    stage.run(
        *move,
        "--yes",
        expect=1,
        shows=("^Sent", "says", "fetched back", "the source has", "arrived", "not there", "balance"),
    )
    told = stage.ask("receipt")
    stage.run(*move, "--yes", shows=("Nothing to do",))
    stage.run("transfer", "list", shows=("transfer", "move-"))
    stage.say(
        "May the old account go? By the rule of this library one other copy is not enough: so it is brought home, too."
    )
    stage.run("erasable", "--account", "stonewharf", expect=1, shows=("^No",))
    stage.run("fetch", "stonewharf", shows=("lists", "^came in", "  new in", "already"))
    stage.run("backup", shows=("balance",))
    stage.run("erasable", "--account", "stonewharf", shows=("^Yes", "thrushfield"))
    stage.run(
        "compare",
        "library",
        "stonewharf",
        "--no-sidecars",
        expect=1,
        shows=("^stonewharf", "has ", "by digest", "only in stonewharf"),
    )
    stage.prove(
        f"{_frames(told)} frames moved from a folder service to a flat one, stopped and gone on with, and were proven there; what"
        " it has no room for was told before"
    )


def _loss(stage: Stage) -> None:
    stage.enter("")
    stage.remove("lost")
    stage.rename("library", "lost")
    stage.enter("depots/dipper")
    stage.run("find", "lantern", "--album", "best of the valley", shows=("frames in",))
    stage.say("From the cottage's drive everything comes back, to a new folder; the lost one is compared with it.")
    stage.enter("")
    stage.run("restore", "library", "--from", "depots/dipper", shows=("from dipper",))
    brought = stage.ask("receipt", "--library", "library")["came_in"]["files"]
    for folder in ("pictures", "albums", "delivered"):
        stage.shell(f"diff -r lost/{folder} library/{folder} && echo {folder}: identical", "diff")
    stage.enter("library")
    stage.say("The other depots are made known again, and read: then everything is as safe as before.")
    for name in ("heron", "otter"):
        stage.run("depot", "add", name, f"../depots/{name}", shows=("Found",))
    stage.run("backup", shows=("balance",))
    stage.run("verify", shows=("^to be read",))
    stage.run("standing", shows=("safe",))
    stage.remove("lost")
    stage.prove(f"the library was lost; {brought} files came back from one drive, identical by diff")


CHAPTERS = (
    Chapter(
        "cloud", "Out of the cloud",
        "The pictures are in an account at Thrushfield, a made-up service that runs here as a real server.", _cloud,
    ),
    Chapter(
        "unknown", "A service that nobody has described",
        "Pipit Lane keeps no originals, only small copies without any date in them, and one list of everything.", _unknown,
    ),
    Chapter(
        "edits", "Raws with edits",
        "Emberlow has raws in folders, and edits as XMP beside them. So small an account comes without an order.", _edits,
    ),
    Chapter(
        "copies", "Three copies",
        "Two drives at the studio, one at the cottage. Here they are folders on one disk, declared as pretend devices; a real"
        " drive is recognised by itself.", _copies,
    ),
    Chapter(
        "card", "A day at the card",
        "Two cameras come home from the fen: raws with their JPEG, a clip, a voice note, misfires, a picture twice.", _card,
    ),
    Chapter(
        "changes", "Other programs at work",
        "A folder gets a better name, an editor gives a picture a title, and one drive is at the cottage, out of reach.",
        _changes,
    ),
    Chapter(
        "damage", "Damage",
        "Behind Bramblemoor's back one picture rots on a drive, and another is deleted there.", _damage, again=True,
    ),
    Chapter(
        "what-if", "What if the studio burned down?",
        "It has the working drive and two of the depots. What would be left?", _what_if, again=True,
    ),
    Chapter(
        "year", "A year is put away",
        "All of it is read, here and at two depots, and found identical; then it may leave the fast drive.", _year, again=True,
    ),
    Chapter(
        "archive", "An archive",
        "For discs, or to be uploaded: a year as volumes of a given size, each complete in itself.", _archive, again=True,
    ),
    Chapter(
        "moving", "Moving house",
        "Stonewharf, a folder service that runs here over WebDAV, is to close; its pictures are to go to Thrushfield.", _moving,
    ),
    Chapter(
        "loss", "The library is lost",
        "Its drive is gone. A depot opens by itself, as it is, and can be searched.", _loss, again=True,
    ),
)  # fmt: skip
