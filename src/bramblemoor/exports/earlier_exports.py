"""What earlier exports told of the frames in the ledger, and by which documents: against what seems to be told now, and as what
this export may correct.
"""

import sqlite3
from collections.abc import Collection

from bramblemoor.exports.evidence import How, moments_agree
from bramblemoor.exports.joining import contents_of, is_original, says_nothing_else
from bramblemoor.exports.worksheet import Worksheet, decode_claims
from bramblemoor.frames.moments import AGREES

_MARK = "export"

# The candidates for pictures that are here by which an earlier export may know better: all but the plainest.
_DOUBTFUL = f"""
    SELECT c.picture, c.record, u.here, p.taken AS shot, r.taken, r.claims, s.name AS document
    FROM candidates c JOIN entries p ON p.id = c.picture JOIN units u ON u.sha256 = p.sha256
    JOIN records r ON r.id = c.record JOIN entries s ON s.id = r.entry
    WHERE u.here NOT NULL AND r.family != 'index' AND r.sha256_said = '' AND r.size_said = 0
    AND (c.how, c.rank) > ({How.EXACT}, 0)
"""
# The records of a document that are not a frame's, and whether they are another's.
_NOT_ITS_OWN = """
    SELECT r.reference, r.claims, EXISTS (SELECT 1 FROM pairs WHERE record = r.id) AS is_anothers
    FROM records r JOIN entries s ON s.id = r.entry WHERE s.name = :document AND r.family = 'sidecar'
    AND NOT EXISTS (SELECT 1 FROM pairs JOIN entries p ON p.id = picture JOIN units u ON u.sha256 = p.sha256
        WHERE record = r.id AND u.frame = :original)
"""


def export_mark(service: str, order: str) -> str:
    """The key under which the ledger notes that an export was unpacked."""
    return f"{_MARK} {service} {order}"


def told_by(service: str, order: str, document: str) -> str:
    """How the ledger notes by which document of an export something was told."""
    return f"{service} {order} {document}"


class Earlier:
    """What a service's earlier exports told, as the ledger `db` has it."""

    def __init__(self, db: sqlite3.Connection, service: str) -> None:
        self.db = db
        start = export_mark(service, "")
        orders = db.execute(
            "SELECT substr(key, ?) FROM meta WHERE substr(key, 1, ?) = ?", (len(start) + 1, len(start), start)
        )
        self._starts = sorted((told_by(service, order, "") for (order,) in orders), key=len, reverse=True)

    def told(self, frame: int) -> dict[str, str]:
        """The notes by which something was told of a frame, each with the name of its document."""
        rows = self.db.execute(
            "SELECT DISTINCT told FROM claims WHERE frame = ? AND source IN ('service', 'xmp')", (frame,)
        )
        found = {}
        for (told,) in rows.fetchall():
            start = next((start for start in self._starts if told.startswith(start)), "")
            if start:
                found[told] = told.removeprefix(start)
        return found


def refuse_strangers(sheet: Worksheet, earlier: Earlier) -> None:
    """Take away candidates that say something else of a picture in the ledger than its own record said in an earlier export,
    where that one is not in this export; `candidates` and `units.here` must be filled.
    """
    for row in sheet.db.execute(_DOUBTFUL).fetchall():
        documents = set(earlier.told(row["here"]).values())
        if not documents or row["document"] in documents or any(_came(sheet, document) for document in documents):
            continue
        agrees = moments_agree(row["taken"] or "", row["shot"] or "") == AGREES
        if not agrees and not says_nothing_else(earlier.db, row["here"], decode_claims(row["claims"])):
            key = (row["picture"], row["record"])
            sheet.db.execute("DELETE FROM candidates WHERE picture = ? AND record = ?", key)
            sheet.db.execute("INSERT OR IGNORE INTO rejected VALUES (?, ?, 'known')", key)


def keep_apart(sheet: Worksheet, earlier: Earlier) -> None:
    """Leave apart what an earlier export told apart by documents or an original that are not in this one, which knows less;
    `units.frame` and `units.here` must be known.
    """
    rows = sheet.db.execute(
        "SELECT u.* FROM units u JOIN units o ON o.entry = u.frame WHERE u.here != o.here ORDER BY u.entry"
    ).fetchall()
    for row in sorted(rows, key=lambda row: not is_original(earlier.db, row["here"], row)):
        first = sheet.db.execute("SELECT * FROM units WHERE entry = ?", (row["frame"],)).fetchone()
        documents = earlier.told(first["here"]).values()
        if is_original(earlier.db, first["here"], first) and all(_came(sheet, name) for name in documents):
            continue
        frame = row["entry"]
        if not is_original(earlier.db, row["here"], row):
            others = sheet.db.execute("SELECT * FROM units WHERE here = ? AND entry != ?", (row["here"], frame))
            frame = next((one["frame"] for one in others if is_original(earlier.db, row["here"], one)), frame)
        if frame == row["entry"]:
            sheet.db.execute("UPDATE units SET role = 'original' WHERE entry = ?", (frame,))
            sheet.db.execute("DELETE FROM own WHERE picture = ?", (frame,))
        sheet.db.execute("UPDATE units SET frame = ? WHERE entry = ?", (frame, row["entry"]))


def withdraw(sheet: Worksheet, earlier: Earlier, original: int, frame: int, records: Collection[sqlite3.Row]) -> int:
    """Take back what an earlier export said of a frame by a record that this one shows not to be its own; returns how many
    claims were.

    `original` names the frame in the export, `records` are its own there. What such a record does not say any more stays, and
    what may be meant for a rendition or clip that did not come.
    """
    told_now = {claim for record in records for claim in decode_claims(record["claims"])}
    own = [record for record in records if record["family"] == "sidecar" and not record["is_own"]]
    is_told = bool(own) and _is_whole(sheet, earlier.db, frame)
    count = 0
    for told, document in earlier.told(frame).items():
        for row in sheet.db.execute(_NOT_ITS_OWN, {"document": document, "original": original}).fetchall():
            if not (row["is_anothers"] or is_told):
                continue
            for claim in set(decode_claims(row["claims"])) - told_now:
                count += earlier.db.execute(
                    "DELETE FROM claims WHERE frame = ? AND field = ? AND value = ? AND source = ? AND told = ?",
                    (frame, claim.field, claim.value, claim.source, told),
                ).rowcount
            earlier.db.execute(
                "UPDATE frames SET reference = ? WHERE id = ? AND reference = ?",
                (own[0]["reference"] if own else "", frame, row["reference"]),
            )
    return count


def _came(sheet: Worksheet, document: str) -> bool:
    return sheet.db.execute("SELECT 1 FROM entries WHERE name = ?", (document,)).fetchone() is not None


def _is_whole(sheet: Worksheet, db: sqlite3.Connection, frame: int) -> bool:
    """Whether all that belongs to a frame in the ledger came in this export."""
    found = contents_of(db, frame)
    return all(sheet.db.execute("SELECT 1 FROM units WHERE sha256 = ?", (digest,)).fetchone() for digest in found)
