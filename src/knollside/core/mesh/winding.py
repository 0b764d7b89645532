"""Neighbouring triangles wound alike."""

from __future__ import annotations

import numba
import numpy as np

from knollside.core.mesh.topology import Edges


def wound_alike(n: int, edges: Edges) -> np.ndarray:
    """Which of ``n`` triangles to turn so that paired neighbours agree; the larger party of each shell stays."""
    against = edges.turn[edges.pair_edge] != 0
    pair = edges.pair
    who = pair.T.ravel()
    order = np.argsort(who, kind="stable")
    start = np.r_[0, np.cumsum(np.bincount(who, minlength=n))]
    other = np.r_[pair[:, 1], pair[:, 0]][order]
    return np.asarray(_spread(start, other, np.r_[against, against][order]))


@numba.njit(cache=True, nogil=True)
def _spread(start, other, against):  # type: ignore[no-untyped-def]
    """Walks each shell from a triangle of it; a shell of which more than half was turned is turned back."""
    n = len(start) - 1
    flipped, seen, line = np.zeros(n, np.bool_), np.zeros(n, np.bool_), np.empty(n, np.int64)
    for root in range(n):
        if seen[root]:
            continue
        seen[root] = True
        line[0] = root
        end, done, turned = 1, 0, 0
        while done < end:
            t = line[done]
            done += 1
            for i in range(start[t], start[t + 1]):
                o = other[i]
                if not seen[o]:
                    seen[o] = True
                    flipped[o] = flipped[t] != against[i]
                    turned += flipped[o]
                    line[end] = o
                    end += 1
        if 2 * turned > end:
            for k in range(end):
                flipped[line[k]] = not flipped[line[k]]
    return flipped
