"""What an editor has changed in a sidecar since it was last written here: compared value by value, and turned into claims."""

from collections.abc import Sequence

from bramblemoor.frames.claims import HAND, TAKEN_AWAY_BY, Claim, Facts, Field, believe
from bramblemoor.frames.fields import BY_CLAIM, FIELDS
from bramblemoor.frames.xmp_reading import Said, all_said
from bramblemoor.frames.xmp_writing import Packet, mark, marks_of

_LISTS = tuple(field for field in FIELDS if field.several and field.properties)
_SINGLE = tuple(field.claim for field in FIELDS if not field.several and field.properties)


def edits(packet: Packet, known: Sequence[Claim], *, was_written: bool, resumed: bool = False) -> list[Claim]:
    """Claims of the source "sidecar" for what a packet says, and does not say any more, beside all that is known of its frame.

    `was_written` says that the ledger knows the packet: of one from before values were marked it then knows what it must have
    held. `resumed` says that a run which broke off may have written what the ledger does not know yet: what it wrote itself is
    no news then. A packet without any marks is a new one: what it does not say was not taken out.
    """
    facts = believe(known)
    record = packet.wrote | packet.kept
    if not packet.is_marked:
        record = _remembered(known, facts) if packet.is_former and was_written else set()
    said = list(all_said(packet.rdf))
    believed_marks = marks_of(facts)
    found = []
    for field in _SINGLE:
        told = [one for one in said if one.claim.field == field]
        new = [one for one in told if not _marks(one) <= record]
        one = (new or told)[0] if told else None
        if one is not None and _is_news(one, bool(new), known, facts, own=packet.wrote if resumed else None):
            value = one.claim.value
            found.append(Claim(field, value, "sidecar"))
        elif not told and field != "taken" and believed_marks.get(field, set()) & record:
            found.append(Claim(field, "", "sidecar"))
    for listed in _LISTS:
        here = {one.claim.value: one for one in said if one.claim.field == listed.claim}
        believed = listed.of(facts)
        held = {claim.value for claim in known if claim.field == listed.claim}
        for value, one in here.items():
            is_known = value in held and _marks(one) <= record and bool(one.texts)
            is_own = resumed and _marks(one) <= packet.wrote and bool(one.texts)
            if value not in believed and not is_known and not is_own:
                found.append(Claim(listed.claim, value, "sidecar"))
        name = listed.properties[0].name
        found += [
            Claim(TAKEN_AWAY_BY[listed.claim], value, "sidecar")
            for value in believed
            if value not in here and mark(name, value) in record
        ]
    held_regions = {claim.value for claim in known if claim.field == "region"}
    found += [
        Claim("region", one.claim.value, "sidecar")
        for one in said
        if one.claim.field == "region" and one.claim.value not in held_regions
    ]
    return found


def _is_news(said: Said, is_new: bool, known: Sequence[Claim], facts: Facts, own: set[str] | None) -> bool:
    """Whether a single value says something else than what is believed, and is not merely what was believed before.

    `own` are the marks of what may have been written here without being entered, where a run broke off.
    """
    field, value = said.claim.field, said.claim.value
    if value == believed_text(field, facts):
        return False
    if is_new:
        return True
    if own is not None and _marks(said) <= own:
        return False
    by_hand = [claim for claim in known if claim.field == field and claim.source in HAND]
    if by_hand and (own is None or by_hand[-1].source == "sidecar"):
        return by_hand[-1].source == "sidecar"  # an editor's change that was taken up, and is undone
    return all(claim.value != value for claim in known if claim.field == field)


def believed_text(field: Field, facts: Facts) -> str:
    """What is believed of a field with one value, as a claim has it; "" for nothing."""
    return BY_CLAIM[field].text(facts)


def _marks(said: Said) -> set[str]:
    return {mark(name, text) for name, text in said.texts}


def _remembered(known: Sequence[Claim], facts: Facts) -> set[str]:
    """What a packet without marks must have held when it was written: what is believed, or the word of those who spoke first."""
    by_others = {claim.field for claim in known if claim.source == "xmp"}
    theirs = marks_of(believe([claim for claim in known if claim.source == "xmp"]))
    ours = marks_of(facts)
    return {token for field in ours for token in (theirs if field in by_others else ours)[field]}
