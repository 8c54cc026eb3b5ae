# The least that any program must do to learn that nothing has changed: ask for size, time and inode of every file.
find "$1/pictures" -printf '%s %T@ %i %p\n' > /dev/null
