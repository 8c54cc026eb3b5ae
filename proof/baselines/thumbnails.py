# What a person would write today: Pillow alone, in draft mode, in two processes.
import io
import sys
from multiprocessing import Pool
from pathlib import Path

from PIL import Image


def small(path: Path) -> int:
    with Image.open(path) as image:
        image.draft("RGB", (320, 320))
        image.thumbnail((320, 320))
        target = io.BytesIO()
        image.save(target, "JPEG", quality=72)
    return target.tell()


if __name__ == "__main__":
    with Pool(2) as pool:
        sizes = list(pool.imap_unordered(small, sorted(Path(sys.argv[1]).rglob("*.jpg")), 8))
    print(len(sizes), "thumbnails,", sum(sizes), "bytes")
