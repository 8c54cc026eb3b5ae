"""A depot seen from its own side, as `depot look` prints it."""

from typing import Any

from bramblemoor.cli import say
from bramblemoor.cli.library.receipts import moment
from bramblemoor.depots.bag import bag
from bramblemoor.depots.bag.depot import Depot
from bramblemoor.depots.bag.earlier import moment_of, runs_with_earlier, versions
from bramblemoor.depots.bag.line import read_line
from bramblemoor.depots.bag.terms import said
from bramblemoor.depots.kinds import INCOMING, Store
from bramblemoor.depots.register.records import read_reading
from bramblemoor.frames.kinds import is_sidecar

_FEW = 8


def print_depot(depot: Depot, *, json: bool) -> None:
    """What a depot holds, what it is for, and what was done there."""
    store, identity = depot.store, depot.identity
    line = read_line(store)
    years: dict[str, int] = {}
    files = 0
    for path, _ in bag.read_manifest(store):
        files += 1
        steps = path.split("/")
        if steps[:2] == ["data", "pictures"] and not is_sidecar(path):
            year = steps[2] if len(steps) > 3 else "-"
            years[year] = years.get(year, 0) + 1
    oxum = bag.read_oxum(store)
    aside = list(versions(store))
    readings = [_reading(store, name) for name in store.names("readings") if name.endswith(".json")]
    document: dict[str, Any] = {
        "depot": identity.name, "id": identity.id, "site": identity.site, "medium": identity.medium,
        "folder": depot.where, "gets": said(identity.terms), "files": files, "bytes": oxum[0] if oxum else None,
        "pictures_by_folder": years, "runs": line.runs, "last_run": moment_of(line.run),
        "earlier_versions": {
            "files": len(aside), "bytes": sum(one.bytes for one in aside), "runs": len(runs_with_earlier(store)),
        },
        "readings": readings, "run_open": store.is_taken(INCOMING), "free_bytes": store.room(),
    }  # fmt: skip
    if json:
        own = [{key: value for key, value in one.items() if key != "amiss"} for one in readings]
        for shown, one in zip(own, readings, strict=True):
            shown["files_amiss"] = one["amiss"]
        say.as_json(document | {"readings": own})
        return
    say.line(
        f"The depot {identity.name} ({identity.id[:8]}) at {depot.where}; site {identity.site}, medium {identity.medium}."
    )
    say.line(f"It gets: {said(identity.terms)}.")
    size = f", {say.size(oxum[0])}" if oxum else ""
    say.line(f"It holds {say.many(files, 'file')}{size}; {say.size(document['free_bytes'])} free.")
    last = f", the last on {moment(moment_of(line.run))}" if moment_of(line.run) else ""
    say.line(f"{say.many(line.runs, 'run')} changed it{last}; earlier versions: {say.many(len(aside), 'file')}.")
    if document["run_open"]:
        say.line("A RUN WAS INTERRUPTED HERE: the next backup to it, by any copy of the library, finishes it.")
    if years:
        say.line()
        say.table(("pictures/", "files"), [(year, f"{count:,}") for year, count in sorted(years.items())], right=(1,))
    if readings:
        say.line()
        rows = [
            (
                moment(str(one["ended"])),
                str(one["run"]),
                f"{one['files']:,}",
                str(one["grade"]),
                say.dash(int(one["amiss"])),
            )
            for one in readings[-_FEW:]
        ]
        say.table(("read on", "by", "files", "from", "amiss"), rows, right=(2, 4))
    say.line()
    say.line("To list what is in a folder: bramblemoor depot look FOLDER --below pictures/YEAR.")
    if store.traits.opens_in_place:
        say.line(f"It opens as a library: bramblemoor --library {depot.where} find.")


def _reading(store: Store, name: str) -> dict[str, Any]:
    found = read_reading(store, f"readings/{name}")
    if found is None:
        return {"run": f"{name} is damaged", "ended": "", "grade": "", "files": 0, "amiss": 1}
    return {key: getattr(found, key) for key in ("run", "ended", "grade", "files")} | {"amiss": len(found.amiss)}


def print_folder(depot: Depot, below: str, *, json: bool) -> None:
    """The files of one folder, and the folders in it with their counts, by the manifest; with what is really on the drive."""
    prefix = "data/" + below.strip("/").removeprefix("data/") + "/"
    folders: dict[str, int] = {}
    files: list[tuple[str, int | None]] = []
    for path, _ in bag.read_manifest(depot.store):
        if path.startswith(prefix):
            first, slash, _ = path[len(prefix) :].partition("/")
            if slash:
                folders[first] = folders.get(first, 0) + 1
            else:
                lies = depot.store.stat(path)
                files.append((first, lies.bytes if lies is not None else None))
    if json:
        listed = [{"folder": name, "files": count} for name, count in sorted(folders.items())]
        listed += [{"file": name, "bytes": size} for name, size in files]
        say.as_json({"depot": depot.name, "below": below, "listed": listed})
        return
    rows = [(f"{name}/", say.many(count, "file"), "") for name, count in sorted(folders.items())]
    rows += [(name, "MISSING" if size is None else say.size(size), "") for name, size in files]
    if not rows:
        say.line(f"The depot {depot.name} holds nothing below {below}.")
        return
    say.table((below, "", ""), rows, right=(1,))
    say.line(f"{say.many(len(folders), 'folder')} and {say.many(len(files), 'file')} at the depot {depot.name}.")
