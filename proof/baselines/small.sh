# Many small files to two drives, made durable.
set -e
cp -a "$1/pictures" "$2"
sync
cp -a "$1/pictures" "$3"
sync
