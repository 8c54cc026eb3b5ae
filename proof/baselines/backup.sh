# What a person does today: copy to two drives, then compare each with the list of checksums.
set -e
cp -a "$1/pictures" "$2"
cp -a "$1/pictures" "$3"
(cd "$2" && sha256sum -c --quiet "$4")
(cd "$3" && sha256sum -c --quiet "$4")
