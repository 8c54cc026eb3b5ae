"""Numbers that are nearly the same: all pairs of 64-bit fingerprints that differ in few bits, without comparing all with all.

Two numbers that differ in at most 3 k + 2 bits differ in at most k in one of three parts of 22, 21 and 21 bits: each part is
looked up with up to k bits of it changed.
"""

from collections.abc import Collection, Iterable, Iterator
from itertools import combinations
from typing import Any

_PARTS = ((0, 22), (22, 21), (43, 21))
_MOST_ALIKE = 200
"""Of numbers that are all the same so many are paired with each other; the others with the first alone."""


def near_pairs(numbers: Any, most_bits: int) -> tuple[Any, Any]:
    """The places (one, other), one below other, of all pairs of a uint64 array that differ in at most so many bits."""
    import numpy as np

    values, where = np.unique(np.asarray(numbers, np.uint64), return_inverse=True)
    found = [*_pairs_of_distinct(values, most_bits)]
    ones = np.concatenate([one for one, _ in found]) if found else np.zeros(0, np.int64)
    others = np.concatenate([other for _, other in found]) if found else np.zeros(0, np.int64)
    return _spread(where, len(values), ones, others)


def _pairs_of_distinct(values: Any, most_bits: int) -> Iterator[tuple[Any, Any]]:
    """Pairs of distinct numbers, once for each part in which they are near enough; as they come."""
    import numpy as np

    changed = most_bits // 3
    for part, (start, width) in enumerate(_PARTS):
        keys = ((values >> np.uint64(start)) & np.uint64((1 << width) - 1)).astype(np.int32)
        order = np.argsort(keys, kind="stable").astype(np.int32)
        keys, numbers = keys[order], values[order]
        # Where each key begins among the sorted ones: 32 bits each, as most of the time goes into looking here.
        begins = np.zeros((1 << width) + 1, np.int32)
        np.cumsum(np.bincount(keys, minlength=1 << width), out=begins[1:])
        for mask in _masks(width, changed):
            wanted = keys ^ np.int32(mask)
            first = begins[wanted]
            count = begins[wanted + 1] - first
            count[keys > wanted] = 0  # each pair once
            some = np.flatnonzero(count)
            count = count[some]
            one = np.repeat(some, count)
            other = np.arange(len(one)) + np.repeat(first[some] - np.cumsum(count) + count, count)
            apart = numbers[one] ^ numbers[other]
            near = np.bitwise_count(apart) <= most_bits
            if not mask:
                near &= one < other
            one, other, apart = one[near], other[near], apart[near]
            for before, size in _PARTS[:part]:  # what an earlier part has found already
                new = np.bitwise_count((apart >> np.uint64(before)) & np.uint64((1 << size) - 1)) > changed
                one, other, apart = one[new], other[new], apart[new]
            yield order[one], order[other]


def _masks(width: int, most: int) -> Iterator[int]:
    for count in range(most + 1):
        for places in combinations(range(width), count):
            yield sum(1 << place for place in places)


def _spread(where: Any, distinct: int, ones: Any, others: Any) -> tuple[Any, Any]:
    """From pairs of distinct numbers to pairs of places: those with the same number are pairs, too."""
    import numpy as np

    order = np.argsort(where, kind="stable")
    ends = np.cumsum(np.bincount(where, minlength=distinct))
    starts = np.concatenate([[0], ends[:-1]])
    left, right = [order[starts[ones]]], [order[starts[others]]]
    sizes = ends - starts
    for value in np.flatnonzero(sizes > 1):
        members = order[starts[value] : ends[value]]
        few = members[:_MOST_ALIKE]
        one, other = np.triu_indices(len(few), 1)
        left.append(few[one])
        right.append(few[other])
        left.append(np.full(len(members) - len(few), members[0]))
        right.append(members[len(few) :])
    # Of near numbers that several have, each of them is paired with the first of the others.
    for one_value, other_value in zip(ones[(sizes[ones] > 1) | (sizes[others] > 1)],
                                      others[(sizes[ones] > 1) | (sizes[others] > 1)], strict=True):  # fmt: skip
        mine = order[starts[one_value] : ends[one_value]][:_MOST_ALIKE]
        theirs = order[starts[other_value] : ends[other_value]][:_MOST_ALIKE]
        left.append(np.repeat(mine, len(theirs)))
        right.append(np.tile(theirs, len(mine)))
    one, other = np.concatenate(left), np.concatenate(right)
    low, high = np.minimum(one, other), np.maximum(one, other)
    pairs = np.unique(np.stack([low, high]), axis=1) if len(low) else np.zeros((2, 0), np.int64)
    return pairs[0], pairs[1]


def borne_out(links: Collection[tuple[int, int]], compared: Iterable[tuple[int, int]]) -> set[tuple[int, int]]:
    """Of pairs that were found alike, among those that were compared, such as the others do not speak against.

    Those that are alike with one of a pair, and were compared with the other, too, are as a rule alike with both. Where more of
    them are not, the pair is alike by chance.
    """
    alike: dict[int, set[int]] = {}
    met: dict[int, set[int]] = {}
    for found, pairs in ((alike, links), (met, compared)):
        for one, other in pairs:
            found.setdefault(one, set()).add(other)
            found.setdefault(other, set()).add(one)
    kept = set()
    for one, other in links:
        apart = (alike[one] ^ alike[other]) - {one, other}
        against = sum(each in met[one] and each in met[other] for each in apart)
        if len(alike[one] & alike[other]) >= against:
            kept.add((one, other))
    return kept


def groups_of(count: int, ones: Any, others: Any) -> Any:
    """The group of each of `count` things, as the lowest place in it, where pairs belong together."""
    import numpy as np
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    links = coo_matrix((np.ones(len(ones), np.uint8), (ones, others)), shape=(count, count))
    _, labels = connected_components(links, directed=False)
    first = np.full(labels.max(initial=-1) + 1, count, np.int64)
    np.minimum.at(first, labels, np.arange(count))
    return first[labels]
