# What a person does today: copy a card to two drives, then read both copies and compare their checksums.
set -e
cp -a "$1" "$2"
cp -a "$1" "$3"
[ -w /proc/sys/vm/drop_caches ] && sync && echo 3 > /proc/sys/vm/drop_caches
(cd "$2" && find . -type f | sort | xargs sha256sum) > "$4.one"
(cd "$3" && find . -type f | sort | xargs sha256sum) > "$4.two"
cmp "$4.one" "$4.two"
