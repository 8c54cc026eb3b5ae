"""The ledger's tables, and the steps from each former version of them to the next."""

from collections.abc import Callable, Collection

VERSION = 9
FORMER_SIDECARS = "former sidecars"
"""In meta: sidecars from before single values were marked in them are still to be renewed."""

_GIVEN_UP = """
CREATE TABLE given_up (                    -- contents that were replaced or let go here; what is not among them is somebody's
    sha256 TEXT PRIMARY KEY
) WITHOUT ROWID;
"""
_FINDING = """
CREATE INDEX IF NOT EXISTS copies_sha256 ON copies (sha256) WHERE sha256 IS NOT NULL;
CREATE INDEX IF NOT EXISTS leftovers_sha256 ON leftovers (sha256);
"""

_CULLED = """
CREATE TABLE culled (                      -- contents that were culled here, so that no card brings them again unasked
    sha256 TEXT PRIMARY KEY, bytes INTEGER NOT NULL,
    path TEXT NOT NULL,                     -- as it was called here
    at TEXT NOT NULL
) WITHOUT ROWID;
"""
_TAKEN_IN = """
CREATE TABLE taken_in (                    -- what was read of a card or phone, by its identifier, so that it need not be again
    device TEXT NOT NULL, path TEXT NOT NULL, bytes INTEGER NOT NULL, mtime_ns INTEGER NOT NULL, sha256 TEXT NOT NULL,
    PRIMARY KEY (device, path)
) WITHOUT ROWID;
"""

_MOVING = """
CREATE TABLE brought (                     -- what was fetched of a service that shows a tree, so that it need not be again
    service TEXT NOT NULL, path TEXT NOT NULL, etag TEXT NOT NULL, modified INTEGER NOT NULL, bytes INTEGER NOT NULL,
    sha256 TEXT NOT NULL,
    fetch TEXT NOT NULL,                    -- by which fetch; what is not unpacked yet lies in its folder
    staged TEXT NOT NULL,                   -- as it is called there
    PRIMARY KEY (service, path)
) WITHOUT ROWID;
CREATE TABLE transfers (                   -- collections on their way from one service to another; see migrate/transfers.py
    id TEXT PRIMARY KEY, source TEXT NOT NULL, destination TEXT NOT NULL, scope TEXT NOT NULL, asked TEXT NOT NULL
) WITHOUT ROWID;
"""

FACTS = (
    """
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE frames (
    id INTEGER PRIMARY KEY,
    folder TEXT NOT NULL,            -- relative to the library, as in pictures/2026/2026-05
    name TEXT NOT NULL,              -- of the original
    kind TEXT NOT NULL,              -- photo or video
    taken TEXT,                      -- as it was told; see frames/moments.py
    taken_by TEXT,
    shown TEXT,                      -- the local clock (else UTC) of the taking, to sort and filter by
    year INTEGER,
    title TEXT NOT NULL DEFAULT '', caption TEXT NOT NULL DEFAULT '', location TEXT NOT NULL DEFAULT '',
    latitude REAL, longitude REAL,
    favourite INTEGER NOT NULL DEFAULT 0, reduced INTEGER NOT NULL DEFAULT 0,
    service TEXT, reference TEXT,    -- where it came from, and its name there
    arrived TEXT,                    -- the order it first came with
    added TEXT                       -- when it came into the library; null where that was not noted yet
);
CREATE INDEX frames_shown ON frames (shown);
CREATE INDEX frames_reference ON frames (service, reference);
CREATE TABLE files (
    id INTEGER PRIMARY KEY,
    frame INTEGER REFERENCES frames (id),   -- null for albums, delivered data, companions and settings
    role TEXT NOT NULL,
    path TEXT NOT NULL UNIQUE,              -- relative to the library
    collision TEXT NOT NULL,
    bytes INTEGER NOT NULL,
    sha256 TEXT NOT NULL,
    mtime_ns INTEGER NOT NULL,
    media TEXT NOT NULL DEFAULT '', width INTEGER NOT NULL DEFAULT 0, height INTEGER NOT NULL DEFAULT 0,
    former_name TEXT NOT NULL DEFAULT '',   -- the name it came under, where another was needed
    -- As last seen in the library; 0: not looked at yet. What has not moved since is not read again.
    seen_ns INTEGER NOT NULL DEFAULT 0, inode INTEGER NOT NULL DEFAULT 0, ctime_ns INTEGER NOT NULL DEFAULT 0,
    read_at INTEGER                         -- when it was last read in the library and found right, seconds since 1970
);
CREATE INDEX files_frame ON files (frame);
CREATE INDEX files_sha256 ON files (sha256);
CREATE INDEX files_collision ON files (collision);
CREATE TABLE claims (
    frame INTEGER NOT NULL REFERENCES frames (id),
    field TEXT NOT NULL, value TEXT NOT NULL, source TEXT NOT NULL,
    told TEXT NOT NULL DEFAULT '',          -- by which file or order
    UNIQUE (frame, field, source, value)
);
CREATE INDEX claims_value ON claims (field, value COLLATE NOCASE);
CREATE TABLE albums (
    id INTEGER PRIMARY KEY,
    title TEXT NOT NULL, description TEXT NOT NULL DEFAULT '', path TEXT NOT NULL UNIQUE,
    service TEXT, reference TEXT,
    cover INTEGER REFERENCES frames (id),   -- the frame that stands for it, where the service told one
    UNIQUE (service, reference)
);
CREATE TABLE album_frames (
    album INTEGER NOT NULL REFERENCES albums (id), position INTEGER NOT NULL,
    frame INTEGER NOT NULL REFERENCES frames (id), PRIMARY KEY (album, position)
) WITHOUT ROWID;
CREATE INDEX album_frames_frame ON album_frames (frame);
CREATE VIRTUAL TABLE words USING fts5 (
    name, title, caption, keywords, people, location, albums, folder, tokenize = 'unicode61 remove_diacritics 2'
);
CREATE TABLE history (                     -- the line of ledgers that this one continues; see library/lineage.py
    generation INTEGER PRIMARY KEY, digest TEXT NOT NULL
);
CREATE TABLE bound (                       -- years that were put away
    year INTEGER PRIMARY KEY, at TEXT NOT NULL,
    depots TEXT NOT NULL,                   -- ids, as a JSON list
    receipt TEXT NOT NULL,                  -- the file name of its final receipt
    freed TEXT NOT NULL DEFAULT ''          -- when it left the working drive; empty: it is there
);
"""
    + _GIVEN_UP
    + _CULLED
)

_COUNTED = """
CREATE TABLE counted (                     -- how many standings there are of a kind; undated frames have year 0
    loose INTEGER NOT NULL, year INTEGER NOT NULL, stand INTEGER NOT NULL, units INTEGER NOT NULL,
    PRIMARY KEY (loose, year, stand)
) WITHOUT ROWID;
"""

_PRINTS = """
CREATE TABLE prints (                      -- fingerprints of contents, to find pictures that look alike; see frames/likeness.py
    sha256 TEXT PRIMARY KEY, bits INTEGER   -- null: there is none
) WITHOUT ROWID;
"""
DEALINGS = (
    _PRINTS
    + _TAKEN_IN
    + _MOVING
    + """
CREATE TABLE services (
    name TEXT PRIMARY KEY, url TEXT NOT NULL, dialect TEXT NOT NULL, added TEXT NOT NULL,
    kind TEXT NOT NULL DEFAULT 'parcels', options TEXT NOT NULL DEFAULT '{}'
) WITHOUT ROWID;
CREATE TABLE orders (
    id TEXT PRIMARY KEY, service TEXT NOT NULL REFERENCES services (name),
    asked TEXT NOT NULL, state TEXT NOT NULL, scope TEXT NOT NULL, statement TEXT NOT NULL DEFAULT '{}'
) WITHOUT ROWID;
CREATE TABLE parts (
    order_id TEXT NOT NULL REFERENCES orders (id), number INTEGER NOT NULL,
    name TEXT NOT NULL, bytes INTEGER NOT NULL, sha256 TEXT NOT NULL, href TEXT NOT NULL,
    etag TEXT NOT NULL DEFAULT '',          -- of what was fetched so far, to resume it
    stamp TEXT NOT NULL DEFAULT '',         -- size, time and inode of the file when its digest was last found right
    PRIMARY KEY (order_id, number)
) WITHOUT ROWID;
CREATE TABLE depots (
    number INTEGER PRIMARY KEY,             -- 0 stands for the library itself
    id TEXT NOT NULL UNIQUE, name TEXT NOT NULL UNIQUE, kind TEXT NOT NULL, site TEXT NOT NULL, medium TEXT NOT NULL,
    whereabouts TEXT NOT NULL,              -- relative to the library
    device TEXT NOT NULL,                   -- the physical device it was last seen on
    options TEXT NOT NULL DEFAULT '{}', added TEXT NOT NULL,
    terms TEXT NOT NULL DEFAULT '{}',       -- what is chosen for it, and how it is kept
    -- Its line as of the last run known here, and the digest of its tag manifest as it was left then.
    runs INTEGER NOT NULL DEFAULT 0, line TEXT NOT NULL DEFAULT '', tags TEXT NOT NULL DEFAULT '',
    retired TEXT NOT NULL DEFAULT '',
    coming TEXT NOT NULL DEFAULT '',        -- what its line becomes by a run of ours that is being closed
    seat TEXT NOT NULL DEFAULT '',          -- where its readings were made: on no other drive or folder do they count
    stranger TEXT NOT NULL DEFAULT ''       -- why its line is not one of ours, where that was seen
);
CREATE TABLE copies (
    depot INTEGER NOT NULL,                 -- depots.number; for 0, the library, only what is not well has a row
    file INTEGER NOT NULL REFERENCES files (id),
    state TEXT NOT NULL,                    -- proven (read from the medium), cached (read, perhaps from a cache), written,
                                            -- damaged, missing; at the library also freed, unbrought (a restore lacked it)
    read_at INTEGER,                        -- of the last reading that matched, seconds since 1970
    sha256 TEXT, path TEXT,                 -- where they are not those of the file any more
    PRIMARY KEY (depot, file)
) WITHOUT ROWID;
CREATE INDEX copies_file ON copies (file);
CREATE INDEX copies_path ON copies (depot, path) WHERE path IS NOT NULL;
CREATE TABLE leftovers (                   -- what lies at a depot, and is no file of the library any more
    depot INTEGER NOT NULL, path TEXT NOT NULL, sha256 TEXT NOT NULL, bytes INTEGER NOT NULL,
    state TEXT NOT NULL, read_at INTEGER, PRIMARY KEY (depot, path)
) WITHOUT ROWID;
-- What a unit's copies amount to. A unit is a frame, or (negative) a file that belongs to none.
CREATE TABLE standings (unit INTEGER PRIMARY KEY, year INTEGER, stand INTEGER NOT NULL);
CREATE INDEX standings_stand ON standings (stand);
CREATE TABLE stands (id INTEGER PRIMARY KEY, held TEXT NOT NULL UNIQUE);
CREATE TABLE unsettled (unit INTEGER PRIMARY KEY);
"""
    + _COUNTED
    + _FINDING
)

# Copies remember what they are of when the file in the library changes, moves or goes; and whatever moves the standing of a
# unit marks it for settling.
_MARK = "INSERT INTO unsettled SELECT u FROM (SELECT {unit} AS u) WHERE u NOT IN (SELECT unit FROM unsettled);"
"""Not OR IGNORE: within a trigger the conflict clause of the outer statement would rule."""
_OLD, _NEW = (_MARK.format(unit=f"coalesce({row}.frame, -{row}.id)") for row in ("old", "new"))
_OF_COPY = (
    "INSERT INTO unsettled SELECT coalesce(frame, -id) FROM files WHERE id = {file}"
    " AND coalesce(frame, -id) NOT IN (SELECT unit FROM unsettled);"
)
_GIVE_UP = "INSERT INTO given_up SELECT old.sha256 WHERE old.sha256 NOT IN (SELECT sha256 FROM given_up);"
TRIGGERS = {
    "file_changed": f"""AFTER UPDATE OF sha256 ON files WHEN old.sha256 != new.sha256 BEGIN
        UPDATE copies SET sha256 = nullif(coalesce(sha256, old.sha256), new.sha256) WHERE file = old.id AND depot > 0;
        {_GIVE_UP} END""",
    "file_moved": """AFTER UPDATE OF path ON files WHEN old.path != new.path BEGIN
        UPDATE copies SET path = nullif(coalesce(path, old.path), new.path) WHERE file = old.id AND depot > 0; END""",
    "file_gone": f"""BEFORE DELETE ON files BEGIN
        INSERT OR REPLACE INTO leftovers SELECT depot, coalesce(path, old.path), coalesce(sha256, old.sha256), old.bytes,
            state, read_at FROM copies WHERE file = old.id AND depot > 0 AND state != 'missing';
        DELETE FROM copies WHERE file = old.id;
        {_GIVE_UP}
        {_OLD} END""",
    "file_read": f"""AFTER UPDATE OF read_at ON files WHEN old.read_at IS NOT new.read_at BEGIN {_NEW} END""",
    "file_new": f"AFTER INSERT ON files BEGIN {_NEW} END",
    "file_to_frame": f"AFTER UPDATE OF frame ON files BEGIN {_OLD} {_NEW} END",
    "frame_dated": f"""AFTER UPDATE OF year ON frames WHEN old.year IS NOT new.year BEGIN
        {_MARK.format(unit="new.id")} END""",
    "copy_new": f"AFTER INSERT ON copies BEGIN {_OF_COPY.format(file='new.file')} END",
    "copy_changed": f"AFTER UPDATE ON copies BEGIN {_OF_COPY.format(file='new.file')} END",
    "copy_gone": f"AFTER DELETE ON copies BEGIN {_OF_COPY.format(file='old.file')} END",
    "standing_new": """AFTER INSERT ON standings BEGIN
        INSERT INTO counted VALUES (new.unit < 0, coalesce(new.year, 0), new.stand, 1)
            ON CONFLICT DO UPDATE SET units = units + 1; END""",
    "standing_gone": """AFTER DELETE ON standings BEGIN
        UPDATE counted SET units = units - 1
            WHERE loose = (old.unit < 0) AND year = coalesce(old.year, 0) AND stand = old.stand; END""",
}

# What a depot's snapshot does not carry of the facts: how the library's own drive tells its files apart.
UNTOLD = ("seen_ns", "inode", "ctime_ns", "read_at")
FACT_TABLES = ("meta", "frames", "files", "claims", "albums", "album_frames", "history", "bound", "given_up", "culled")


def triggers() -> str:
    return "\n".join(f"CREATE TRIGGER IF NOT EXISTS {name} {body};" for name, body in TRIGGERS.items())


_WORDS = ("name", "title", "caption", "keywords", "people", "location", "albums", "folder")
_UPGRADES = {
    1: "ALTER TABLE albums ADD COLUMN cover INTEGER REFERENCES frames (id);",
    2: f"""
        ALTER TABLE files ADD COLUMN seen_ns INTEGER NOT NULL DEFAULT 0;
        ALTER TABLE files ADD COLUMN inode INTEGER NOT NULL DEFAULT 0;
        ALTER TABLE files ADD COLUMN ctime_ns INTEGER NOT NULL DEFAULT 0;
        ALTER TABLE copies RENAME TO former_copies;
        ALTER TABLE depots RENAME TO former_depots;
        DROP INDEX copies_file;
        ALTER TABLE files ADD COLUMN read_at INTEGER;
        {FACTS[FACTS.index("CREATE TABLE history") :]}
        {DEALINGS[DEALINGS.index("CREATE TABLE depots") :]}
        INSERT INTO depots (id, name, kind, site, medium, whereabouts, device, options, added)
            SELECT id, name, kind, site, medium, whereabouts, device, options, added FROM former_depots ORDER BY rowid;
        INSERT INTO copies SELECT coalesce(number, 0), file,
            CASE WHEN state != 'good' THEN state WHEN grade = 'medium' THEN 'proven' ELSE 'cached' END,
            CAST(strftime('%s', c.read_at) AS INTEGER), nullif(c.sha256, f.sha256), NULL
            FROM former_copies c JOIN files f ON f.id = file LEFT JOIN depots ON depots.id = c.depot;
        DROP TABLE former_copies;
        DROP TABLE former_depots;
        {triggers()}
        INSERT INTO unsettled SELECT DISTINCT coalesce(frame, -id) FROM files;
    """,
    # What version 2 becomes has this already.
    3: f"""
        DROP INDEX IF EXISTS standings_year;
        CREATE INDEX IF NOT EXISTS standings_stand ON standings (stand);
        {_COUNTED.replace("TABLE", "TABLE IF NOT EXISTS")}
        {triggers()}
        DELETE FROM counted;
        INSERT INTO counted SELECT unit < 0, coalesce(year, 0), stand, count(*) FROM standings GROUP BY 1, 2, 3;
    """,
    # Of what was read before, nobody noted the drive: it counts again once it was read.
    4: f"""
        {_GIVEN_UP.replace("TABLE", "TABLE IF NOT EXISTS")}
        {_FINDING}
        DROP TRIGGER IF EXISTS file_changed;
        DROP TRIGGER IF EXISTS file_gone;
        {triggers()}
        INSERT INTO unsettled SELECT DISTINCT coalesce(frame, -id) FROM files
            WHERE coalesce(frame, -id) NOT IN (SELECT unit FROM unsettled);
    """,
    5: f"""
        {_PRINTS.replace("TABLE", "TABLE IF NOT EXISTS")}
        INSERT OR IGNORE INTO meta VALUES ('{FORMER_SIDECARS}', '');
        UPDATE words SET {", ".join(f"{column} = bm_plain({column})" for column in _WORDS)};
    """,
    7: (_CULLED + _TAKEN_IN).replace("TABLE", "TABLE IF NOT EXISTS"),
    8: _MOVING.replace("TABLE", "TABLE IF NOT EXISTS"),
}

_ADDED: dict[int, dict[str, tuple[str, ...]]] = {
    4: {
        "files": ("read_at INTEGER",),
        "depots": (
            "coming TEXT NOT NULL DEFAULT ''", "seat TEXT NOT NULL DEFAULT ''", "stranger TEXT NOT NULL DEFAULT ''",
        ),
    },
    7: {"frames": ("added TEXT",)},
    6: {"services": ("kind TEXT NOT NULL DEFAULT 'parcels'", "options TEXT NOT NULL DEFAULT '{}'")},
}  # fmt: skip
"""Columns that came with a step; what an older ledger becomes on the way has them already."""


def upgrade(version: int, columns: Callable[[str], Collection[str]]) -> str:
    """The step from a version to the next; `columns` tells those of a table."""
    added = [
        f"ALTER TABLE {table} ADD COLUMN {column};"
        for table, ours in _ADDED.get(version, {}).items()
        for column in ours
        if column.split()[0] not in columns(table)
    ]
    return "".join(added) + _UPGRADES.get(version, "")
