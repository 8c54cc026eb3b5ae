# What a person does today: compare a copy with its list of checksums, read from the drive.
set -e
[ -w /proc/sys/vm/drop_caches ] && echo 3 > /proc/sys/vm/drop_caches
cd "$1" && sha256sum -c --quiet manifest-sha256.txt
