"""What a destination keeps, changes and loses, judged without any service: frames and what a service says of itself in,
verdicts out.
"""

from typing import Any

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bramblemoor.migrate.fidelity import differences, fitted, weigh, why_refused
from bramblemoor.services.moving import Fidelity, Limit, Shown, ShownFile, Told

KEEPS_ALL = Fidelity(
    fields={name: Limit() for name in ("taken", "title", "caption", "keywords", "people", "position", "location", "favourite")},
    albums=True, kinds=("photo", "raw", "video"), most_bytes={"video": 1000}, roles=("rendition",), dates="utc",
    undated="arrival",
)  # fmt: skip
KEEPS_LESS = Fidelity(
    stores="reduced",
    names=False,
    embedded=False,
    fields={"caption": Limit(letters=10), "keywords": Limit(values=2)},
    kinds=("photo",),
)
FOLDERS = Fidelity(tree=True, sidecars=True, name_bytes=12)


def frame(name: str = "a.jpg", kind: str = "photo", size: int = 500, folder: str = "", **told: Any) -> Shown:
    files = (ShownFile("original", name, size, name), ShownFile("rendition", "b.jpg", 5, "b.jpg"))
    return msgspec.convert(
        {"id": "1", "kind": kind, "files": msgspec.to_builtins(files), "told": told, "folder": folder}, Shown
    )


def verdicts(
    one: Shown, keeps: Fidelity, inside: Told | None = None, *, embed: bool = True
) -> dict[str, tuple[str, str]]:
    return {found.what: (found.outcome, found.how) for found in weigh(one, keeps, inside or Told(), embed=embed)}


def test_what_is_not_taken_at_all() -> None:
    assert why_refused(frame(), KEEPS_ALL) == ""
    assert why_refused(frame("a.dng", "raw"), KEEPS_LESS) == "raws are not taken there"
    assert "1,001 bytes is more than the 1,000" in why_refused(frame("a.mp4", "video", 1001), KEEPS_ALL)
    assert "no picture or film" in why_refused(frame("a.txt", "other"), KEEPS_ALL)
    assert why_refused(frame("a.txt", "other"), FOLDERS) == ""


def test_each_field_is_kept_changed_or_lost() -> None:
    told: dict[str, Any] = {
        "taken": "2026-05-02T20:44:00+01:00",
        "title": "Lanterns",
        "rating": 4,
        "caption": "twelve letters",
        "keywords": ["a", "b", "c"],
    }
    full = verdicts(frame(**told), KEEPS_ALL)
    assert full["taken"] == ("changed", "the instant stays, the local clock goes") and full["title"][0] == "kept"
    assert full["rating"][0] == "inside" and full["picture"][0] == full["name"][0] == full["rendition"][0] == "kept"
    assert verdicts(frame(taken="2026-05-02T20:44:00"), KEEPS_ALL)["taken"][1] == "its local time is taken for UTC"
    assert verdicts(frame(), KEEPS_ALL)["taken"] == ("changed", "it gets the date of its arrival")
    less = verdicts(frame(**told), KEEPS_LESS)
    assert (
        less["caption"] == ("changed", "it is shortened to 10 letters")
        and less["keywords"][1] == "only the first 2 stay"
    )
    assert (
        less["title"][0] == less["rating"][0] == less["rendition"][0] == "lost"
        and less["picture"][0] == less["name"][0] == "changed"
    )
    kept = verdicts(frame("a-long-name.jpg", folder="2026/May", **told), FOLDERS)
    assert {what for what, (outcome, _) in kept.items() if outcome != "kept"} == {"name"}


def test_what_has_no_field_goes_inside_only_where_that_can_be() -> None:
    assert verdicts(frame(rating=4), KEEPS_ALL, embed=False)["rating"][0] == "lost"
    assert verdicts(frame("a.dng", "raw", rating=4), KEEPS_ALL)["rating"][0] == "lost"
    assert verdicts(frame("a.dng", "raw", rating=4), KEEPS_ALL, Told(rating=4))["rating"][0] == "inside"
    assert verdicts(frame(size=9 << 20, rating=4), KEEPS_ALL)["rating"][0] == "lost"


@given(
    st.builds(
        Told, title=st.text(max_size=20), caption=st.text(max_size=40),
        keywords=st.lists(st.text(max_size=5), max_size=5).map(tuple),
        rating=st.none() | st.integers(-1, 5),
    ),
    st.sampled_from([KEEPS_ALL, KEEPS_LESS]),
)  # fmt: skip
def test_what_is_sent_within_the_limits_is_expected_back(told: Told, keeps: Fidelity) -> None:
    sent = fitted(told, keeps)
    assert list(differences(sent, sent, keeps)) == [] and len(sent.caption) <= (10 if keeps is KEEPS_LESS else 40)
    assert all(
        getattr(sent, name) == getattr(Told(), name) for name in Told.__struct_fields__ if name not in keeps.fields
    )
    if sent.caption:
        assert list(differences(sent, msgspec.structs.replace(sent, caption="another"), keeps)) == ["caption"]
    if sent.keywords:
        assert list(differences(sent, msgspec.structs.replace(sent, keywords=()), keeps)) == ["keywords"]


@pytest.mark.parametrize(
    ("ours", "theirs", "same"),
    [
        ("2026-05-02T20:44:00+01:00", "2026-05-02T19:44:00Z", True),
        ("2026-05-02T20:44:00", "2026-05-02T20:44:00Z", True),
        ("2026-05-02T20:44:00+01:00", "2026-05-02T20:44:00Z", False),
        ("2026-05-02T20:44:00Z", "", False),
    ],
)
def test_a_wrong_date_is_seen(ours: str, theirs: str, same: bool) -> None:
    assert (list(differences(Told(taken=ours), Told(taken=theirs), KEEPS_ALL)) == []) is same
