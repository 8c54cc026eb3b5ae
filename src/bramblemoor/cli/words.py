"""Words that people type and that are no command here, and which of ours does what they want."""

_INSTEAD = {
    "import add ingest take load offload card": (
        "Pictures on a card, a phone or a disk come into the library by bramblemoor intake FOLDER; an export of a"
        " service by bramblemoor unpack. A library is made around pictures where they lie by bramblemoor new FOLDER"
        " --around."
    ),
    "init create setup start library": "A library is made by bramblemoor new FOLDER.",
    "download pull get receive": (
        "An export is ordered by bramblemoor order, and fetched by bramblemoor collect; what lies in folders of a service"
        " by bramblemoor fetch."
    ),
    "copy cp sync mirror clone duplicate replicate": (
        "Copies are made by bramblemoor backup; before the first: bramblemoor depot add NAME FOLDER. From service to service:"
        " bramblemoor migrate."
    ),
    "upload send push put": "Frames are sent to a service by bramblemoor migrate library SERVICE.",
    "transfers": "Collections on their way are listed by bramblemoor transfer list.",
    "ls dir search query pictures frames": "Frames are listed by bramblemoor find.",
    "shoots split subject date": "Shoots are named, parted and put together by bramblemoor shoot.",
    "albums gallery": "Albums are made and changed by bramblemoor album; a page to look through: bramblemoor page.",
    "browse look thumbnails preview slideshow web html": (
        "A page to look through the library is written by bramblemoor page, a sheet of small pictures by bramblemoor"
        " sheet."
    ),
    "duplicates dupes similar near": "Frames that show the same picture are listed by bramblemoor alike.",
    "reject pick select flag mark unmark": "Frames are marked, looked through and removed by bramblemoor cull.",
    "list depots services dialects orders receipts years": (
        "Lists: bramblemoor depot list, service list, order list, receipt list, bind list, dialect list; "
        "frames: bramblemoor find."
    ),
    "status state health report overview stats summary": (
        "Whether everything is safe is told by bramblemoor standing."
    ),
    "info cat view open details inspect": "All that is known of a frame is told by bramblemoor show FRAME.",
    "check scan fsck scrub audit test validate checksum": (
        "Copies are read and compared by bramblemoor verify; what changed in the library's folders is told by"
        " bramblemoor stocktake."
    ),
    "diff tree trees": "Two trees are compared side by side by bramblemoor compare ONE OTHER.",
    "repair fix heal recover": (
        "What verify found is put right by bramblemoor mend; a lost library comes back by bramblemoor restore."
    ),
    "delete remove rm del trash discard": (
        "Frames are marked by bramblemoor cull mark and leave by bramblemoor cull remove. What was deleted with"
        " another program is let go by bramblemoor stocktake --let-go NAME; a depot by bramblemoor depot retire."
    ),
    "loan share proof proofs retouch": (
        "Small copies for somebody to work on are written by bramblemoor lend out, and come back by bramblemoor lend back."
    ),
    "erase format wipe": "Whether a card may be erased is told by bramblemoor erasable FOLDER.",
    "rename move mv": (
        "Shoots are renamed by bramblemoor shoot rename; with any other program, too: then bramblemoor stocktake."
    ),
    "refresh update rescan commit save": "What changed in pictures/ is taken up by bramblemoor stocktake.",
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
    "logout signout disconnect revoke": "One signs out by bramblemoor service sign-out NAME.",
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
