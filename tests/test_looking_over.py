"""Looking over the library by two processes: spans of paths, and what was done in each half of them."""

import os
import tempfile
from itertools import pairwise
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from bramblemoor.library.receipts import Finding
from bramblemoor.library.stocktake.walk import EVERYTHING, Span, walk
from conftest import Shell, pictures, run_changed

# Names around the slash, which is where a folder sorts: "a-b" < "a/b" < "a0".
_NAMES = st.text("a-.0/é\U0001f989", min_size=1, max_size=6).filter(
    lambda path: all(step.strip(".") for step in path.split("/"))
)
BY_TWO = "import os; os.cpu_count = lambda: 2"


def make_many(library: Path) -> None:
    """So many files that two processes share them."""
    for number in range(2100):
        (library / f"companions/{number:04}.txt").write_text("x")


@settings(max_examples=60, deadline=None)
@given(st.sets(_NAMES, max_size=12), st.lists(_NAMES, max_size=3))
def test_spans_share_all_paths_out(paths: set[str], cuts: list[str]) -> None:
    with tempfile.TemporaryDirectory() as name:
        root = Path(name)
        for path in paths:
            place = root / "pictures" / path
            if not any(level.is_file() for level in place.parents) and not place.exists():
                place.parent.mkdir(parents=True, exist_ok=True)
                place.write_text(path)
        whole = list(walk(root, []))
        assert [seen[0] for seen in whole] == sorted((seen[0] for seen in whole), key=str.encode)
        assert len(whole) == sum(path.is_file() for path in root.rglob("*"))
        edges = [EVERYTHING.first, *sorted({f"pictures/{cut}" for cut in cuts}), EVERYTHING.end]
        parts = [list(walk(root, [], Span(*edge))) for edge in pairwise(edges)]
        assert [seen for part in parts for seen in part] == whole


def test_what_was_done_in_either_half_is_found(shell: Shell, library: Path) -> None:
    make_many(library)
    shell("stocktake", cwd=library)
    names = [name for name in pictures(library) if name.endswith(".jpg")]
    first, last = names[0], names[-1]
    for number, name in enumerate((first, last)):
        (library / name).rename((library / name).with_name(f"renamed {number}.jpg"))
        (library / "pictures" / f"{'0z'[number]} new.jpg").write_bytes((library / names[5]).read_bytes() + b"more")
    (library / names[10]).unlink()
    (library / names[-10]).unlink()
    (library / "albums/link").symlink_to("nowhere")
    odd = os.fsencode(library / "pictures") + b"/z\xff.jpg"
    Path(os.fsdecode(odd)).write_bytes(b"odd")
    alone = shell("stocktake", "--dry-run", "--json", cwd=library, code=1).json
    by_two = run_changed(shell, library, BY_TWO, {}, "stocktake", "--dry-run", "--json")
    assert by_two.stdout == shell("stocktake", "--dry-run", "--json", cwd=library, code=1).out, by_two.stderr
    told = {Finding(**one).name for one in alone["findings"]}
    assert {names[10], names[-10], "albums/link", "pictures/z?.jpg"} <= told
    assert len(alone["moved"]) == 4 and {"pictures/0 new.jpg", "pictures/z new.jpg"} <= set(alone["new"])


def test_a_half_whose_process_is_killed_ends_the_run(shell: Shell, library: Path) -> None:
    make_many(library)
    shell("stocktake", cwd=library)
    killed = f"{BY_TWO}; fork = os.fork; os.fork = lambda: fork() or os.kill(os.getpid(), 9)"
    done = run_changed(shell, library, killed, {}, "stocktake")
    assert done.returncode == 3 and "looks over it was ended" in done.stderr and "Traceback" not in done.stderr
    assert "looked over" in shell("stocktake", cwd=library).out
