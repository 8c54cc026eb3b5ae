# What a person does today: copy everything back, then compare it with the list of checksums.
set -e
[ -w /proc/sys/vm/drop_caches ] && echo 3 > /proc/sys/vm/drop_caches
cp -a "$1/data" "$2"
(cd "$2" && sed 's#  data/#  #' "$1/manifest-sha256.txt" | sha256sum -c --quiet)
