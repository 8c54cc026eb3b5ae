"""The receipt of a transfer: what the source says, what was sent, and what the destination says, each frame once."""

from collections.abc import Callable

from bramblemoor.frames.moments import now_utc
from bramblemoor.library.receipts import Amount, Finding, Kept, LeftOut, Receipt, stamp
from bramblemoor.migrate.plan import Plan
from bramblemoor.migrate.proving import Proven
from bramblemoor.migrate.transfers import Transfer
from bramblemoor.migrate.worksheet import Line, Worksheet

RUN = "migrate"


def receipt_of_transfer(
    sheet: Worksheet, transfer: Transfer, plan: Plan, proven: Proven, number: int, run: int, started: str,
    said: Callable[[Amount], str],
) -> Receipt:  # fmt: skip
    """`run` is which of its runs it is of. What was not sent, or did not arrive as it was sent, is left out, by name."""
    kept = {what: Amount() for what in ("arrived, and proven", "arrived and proven before", "lay there already")}
    left: list[LeftOut] = []
    findings = list(proven.findings)
    sent = Amount()
    for line in sheet.lines("waiting", "sent", "proven", "missing", "amiss", "left", look=plan.look):
        amount = line.amount
        if line.sent is not None:
            sent += Amount(amount.frames, len(line.sent.files), sum(file.bytes for file in line.sent.files))
            if line.sent.inside:
                what = (
                    f"in the copy that was sent lies besides: {', '.join(line.sent.inside)}; the original is as it was"
                )
                findings.append(Finding(line.shown.name, what))
        if line.state == "proven" and line.sent is not None:
            before = sheet.run_of(line.n) < run
            what = (
                "lay there already"
                if line.sent.already
                else "arrived and proven before"
                if before
                else "arrived, and proven"
            )
            kept[what] += amount
        else:
            left.append(LeftOut(line.shown.name, _why(sheet, line), amount))
    findings += [
        Finding(name, "what is said of it has changed since it was sent; there it is as it was")
        for name in sheet.restated(plan.look)
    ]
    about = {
        "transfer": transfer.id,
        "from": transfer.source + (f" ({transfer.scope.said})" if transfer.scope.said else ""),
        "to": transfer.destination,
        "the source says": said(Amount(*plan.listed)),
        "was sent": said(sent),
        "the destination says": said(Amount(proven.frames, proven.files, proven.bytes)),
        "fetched back and compared": f"{proven.read:,} files",
    }
    return Receipt(
        number, RUN, started, stamp(now_utc()), about, Amount(*plan.listed),
        [Kept(what, amount) for what, amount in kept.items() if amount.frames], left, findings,
    )  # fmt: skip


def _why(sheet: Worksheet, line: Line) -> str:
    if line.state in ("missing", "amiss"):
        return f"it did not arrive as it was sent: {sheet.found_of(line.n)}"
    return line.why or "it was not sent yet"
