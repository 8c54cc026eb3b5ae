# As many small files as there are below a folder, with the same content, written to a new folder and flushed.
import os
import sys
from pathlib import Path

contents = [path.read_bytes() for path in sorted(Path(sys.argv[1]).rglob("*.xmp"))]
target = Path(sys.argv[2])
target.mkdir()
for number, content in enumerate(contents):
    (target / f"{number}.xmp").write_bytes(content)
os.sync()
