"""The services and orders that a library knows, as rows of its ledger. Tokens are not among them."""

import json
import uuid
from dataclasses import dataclass, field
from typing import Any

import msgspec

from bramblemoor.disk.told import Inside
from bramblemoor.errors import WrongUse
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.folding import suggestion
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import stamp
from bramblemoor.services.interface import OrderScope, OrderStatement, Part, PlacedOrder
from bramblemoor.services.kinds import PARCELS

_ASKING = "asking "


@dataclass(frozen=True)
class KnownService:
    """A service as it was added: where it is, how its exports are written, of which kind it is, and what was agreed of it."""

    name: Inside
    url: str
    dialect: str
    kind: str = PARCELS
    options: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class KnownOrder:
    """An order as last heard of. `state` goes on to collected and unpacked once it is ours."""

    id: Inside
    service: Inside
    asked: str
    state: str
    scope: OrderScope
    statement: OrderStatement
    parts: tuple[Part, ...]

    @property
    def bytes(self) -> int:
        return sum(part.bytes for part in self.parts)


def account_key(library: Library, service: str) -> str:
    """Under which name a service's token is kept."""
    return f"{library.settings.library.id}/{service}"


def add_service(library: Library, service: KnownService) -> None:
    """Add a service, or change the address of one that is known."""
    with library.ledger.changing() as db:
        db.execute(
            "INSERT INTO services (name, url, dialect, added, kind, options) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (name)"
            " DO UPDATE SET url = excluded.url, dialect = excluded.dialect, kind = excluded.kind, options = excluded.options",
            (
                service.name,
                service.url,
                service.dialect,
                stamp(now_utc()),
                service.kind,
                json.dumps(service.options),
            ),
        )


def services(library: Library) -> list[KnownService]:
    rows = library.db.execute("SELECT name, url, dialect, kind, options FROM services ORDER BY name")
    return [
        KnownService(row["name"], row["url"], row["dialect"], row["kind"], json.loads(row["options"])) for row in rows
    ]


def service_named(library: Library, name: str | None) -> KnownService:
    """The service of that name; without a name, the only one. Raises WrongUse with the nearest right name."""
    known: dict[str, KnownService] = {service.name: service for service in services(library)}
    if not known:
        raise WrongUse("This library knows no service yet.", "Add one: bramblemoor service add NAME URL.")
    if name is None:
        if len(known) > 1:
            raise WrongUse("This library knows several services.", f"Name one of them: {', '.join(known)}.")
        return next(iter(known.values()))
    if name not in known:
        raise WrongUse(f"There is no service {name!r} here.", suggestion(name, known))
    return known[name]


def record_order(library: Library, service: str, scope: OrderScope, placed: PlacedOrder) -> None:
    """Write down an order as the service tells it; a state that is already ours (collected, unpacked) stays."""
    with library.ledger.changing() as db:
        db.execute(
            "INSERT INTO orders VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (id) DO UPDATE SET"
            " state = iif(state IN ('collected', 'unpacked'), state, excluded.state), statement = excluded.statement",
            (
                placed.id,
                service,
                stamp(now_utc()),
                placed.state,
                msgspec.json.encode(scope).decode(),
                msgspec.json.encode(placed.statement).decode(),
            ),
        )
        for part in placed.parts:
            db.execute(
                "INSERT INTO parts (order_id, number, name, bytes, sha256, href) VALUES (?, ?, ?, ?, ?, ?)"
                " ON CONFLICT DO NOTHING",
                (placed.id, part.number, part.name, part.bytes, part.sha256, part.href),
            )


def asking(library: Library, service: str, scope: OrderScope) -> str:
    """The key to ask for an order with. Where the same was asked for and no answer was written down, the same key again."""
    wanted = msgspec.json.encode(scope).decode()
    row = library.db.execute("SELECT value FROM meta WHERE key = ?", (f"{_ASKING}{service}",)).fetchone()
    if row is not None:
        key, _, asked = row["value"].partition(" ")
        if asked == wanted:
            return str(key)
    key = str(uuid.uuid4())
    with library.ledger.changing() as db:
        db.execute("INSERT OR REPLACE INTO meta VALUES (?, ?)", (f"{_ASKING}{service}", f"{key} {wanted}"))
    return key


def answered(library: Library, service: str) -> None:
    """What was asked for is written down: the next order is another one."""
    with library.ledger.changing() as db:
        db.execute("DELETE FROM meta WHERE key = ?", (f"{_ASKING}{service}",))


def refresh(library: Library, service: str, told: list[PlacedOrder]) -> list[str]:
    """Bring orders in step with what their service tells; returns the numbers of new ones, which a repeated order has made.

    An order is ours where this library has asked for it, or for the first of its series.
    """
    known: dict[str, KnownOrder] = {order.id: order for order in orders(library) if order.service == service}
    made: list[str] = []
    for placed in told:
        if placed.id in known:
            if known[placed.id].state not in ("withdrawn", placed.state):
                record_order(library, service, known[placed.id].scope, placed)
        elif placed.series in known:
            first = known[placed.series].scope
            record_order(library, service, msgspec.structs.replace(first, every_days=0, repeat_until=""), placed)
            made.append(placed.id)
    return made


def set_state(library: Library, order: str, state: str) -> None:
    with library.ledger.changing() as db:
        db.execute("UPDATE orders SET state = ? WHERE id = ?", (state, order))


def orders(library: Library) -> list[KnownOrder]:
    """All orders, oldest first."""
    found = []
    for row in library.db.execute("SELECT * FROM orders ORDER BY asked, id"):
        parts = library.db.execute(
            "SELECT number, name, bytes, sha256, href FROM parts WHERE order_id = ? ORDER BY number", (row["id"],)
        )
        scope: Any = json.loads(row["scope"])
        found.append(
            KnownOrder(
                row["id"],
                row["service"],
                row["asked"],
                row["state"],
                msgspec.convert(scope, OrderScope),
                msgspec.json.decode(row["statement"], type=OrderStatement),
                tuple(Part(*part) for part in parts),
            )
        )
    return found


def order_named(library: Library, name: str | None, states: tuple[str, ...]) -> KnownOrder:
    """The order of that id; without one, the latest in one of `states`. Raises WrongUse with the nearest right id."""
    known = orders(library)
    if not known:
        raise WrongUse("Nothing was ordered yet.", "Order an export: bramblemoor order.")
    if name is None:
        fitting = [order for order in known if order.state in states]
        if not fitting:
            last = known[-1]
            raise WrongUse(
                f"No order is {' or '.join(states)}; the latest, {last.id}, is {last.state}.",
                f"Name an order ({', '.join(order.id for order in known)}) or make a new one: bramblemoor order.",
            )
        return fitting[-1]
    by_id = {order.id.casefold(): order for order in known}
    if name.casefold() not in by_id:
        raise WrongUse(f"There is no order {name!r} here.", suggestion(name, [order.id for order in known]))
    return by_id[name.casefold()]
