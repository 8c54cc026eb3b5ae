"""Words that people type and that are no command here, and which of ours does what they want."""

_INSTEAD = {
    "import add ingest take load": (
        "Pictures that lie on a disk: bramblemoor new FOLDER --around makes a library of them,"
        " bramblemoor unpack --from FOLDER --dialect folders copies them into this one; an export of a service:"
        " bramblemoor unpack."
    ),
    "init create setup start library": "A library is made by bramblemoor new FOLDER.",
    "download pull get receive": "An export is ordered by bramblemoor order, and fetched by bramblemoor collect.",
    "copy cp sync mirror push upload clone duplicate replicate": (
        "Copies are made by bramblemoor backup; before the first: bramblemoor depot add NAME FOLDER."
    ),
    "migrate": "An export is ordered by bramblemoor order; frames are given to others by bramblemoor restore DIR.",
    "ls dir search query browse pictures frames albums shoots": "Frames are listed by bramblemoor find.",
    "list depots services dialects orders receipts years": (
        "Lists: bramblemoor depot list, service list, order list, receipt list, bind list, dialect list; "
        "frames: bramblemoor find."
    ),
    "status state health report overview stats summary": (
        "Whether everything is safe is told by bramblemoor standing."
    ),
    "info cat view open details inspect": "All that is known of a frame is told by bramblemoor show FRAME.",
    "check scan fsck scrub audit test validate checksum compare diff": (
        "Copies are read and compared by bramblemoor verify; what changed in the library's folders is told by"
        " bramblemoor stocktake."
    ),
    "repair fix heal recover": (
        "What verify found is put right by bramblemoor mend; a lost library comes back by bramblemoor restore."
    ),
    "delete remove rm del erase trash discard": (
        "Delete the files in pictures/ with any program, then say so: bramblemoor stocktake --let-go NAME. A "
        "depot: bramblemoor depot retire."
    ),
    "rename move mv refresh update rescan commit save": (
        "Rename and move in pictures/ with any program, then: bramblemoor stocktake."
    ),
    "tag edit set write caption title keyword label rate describe": (
        "What you know of frames is said by bramblemoor tell FRAME."
    ),
    "untag unset forget": "Keywords and people are taken away by bramblemoor unsay FRAME.",
    "undo revert rollback": (
        "What was told is taken back by bramblemoor takeback; an earlier state comes by bramblemoor restore "
        "--as-of DATE."
    ),
    "export archive zip tar bundle deliver": (
        "An archive is written by bramblemoor pack DIR; frames by bramblemoor restore DIR --year 2024."
    ),
    "log history journal runs logs": "What each run did is told by bramblemoor receipt list.",
    "versions snapshots snapshot": "Earlier versions are listed by bramblemoor earlier DEPOT.",
    "login signin account connect auth": "One signs in by bramblemoor service add NAME URL.",
    "config settings options preferences": "Settings stand in bramblemoor.toml, in the library's folder.",
    "close lock seal freeze": "A year is put away by bramblemoor bind YEAR --at DEPOT.",
    "unlock reopen thaw": "A bound year is opened for work by bramblemoor unbind YEAR.",
    "shelve plan distribute": "Which years go on which drives is proposed by bramblemoor allot.",
    "drive drives disk disks remote target mount": (
        "Drives for copies are made known by bramblemoor depot add NAME FOLDER; depot list --attached tells "
        "what is there."
    ),
    "prune clean cleanup gc expire": (
        "Earlier versions are deleted by bramblemoor purge DEPOT; a bound year leaves the working drive by "
        "bramblemoor free."
    ),
    "version": "The version is told by bramblemoor --version.",
}
INSTEAD = {word: sentence for words, sentence in _INSTEAD.items() for word in words.split()}
