"""A list of plates with their printers turned into hours, and the list annealed: the week's kernels.

Simulated annealing after Kirkpatrick, Gelatt and Vecchi (1983). Plates, printers and spools are numbers,
times units of five minutes.
"""

from __future__ import annotations

import numba
import numpy as np

FIRST_LAYER = 4  # units it is watched for
NOTHING = 1e17  # a cost from which on a list does not go


@numba.njit(cache=True, nogil=True)
def set_up(t, long, present, until):  # type: ignore[no-untyped-def]
    """From ``t`` on the first unit with somebody in for so many units; -1 for none."""
    n = present.shape[0]
    while t + long <= n:
        if not present[t]:
            t += 1
        elif until[t] < t + long:
            t = until[t]
        else:
            return t
    return -1


@numba.njit(cache=True, nogil=True)
def earliest(t, long, soon, latest, present, until, school):  # type: ignore[no-untyped-def]
    """From ``t`` on the first unit at which a print of so many units may be begun, by the school; -1 for none. Its end
    may come ``soon`` to ``latest`` units after its start: somebody must be in over all of that."""
    n = present.shape[0]
    while t + long <= n:
        if not present[t]:
            t += 1
        elif until[t] < t + min(FIRST_LAYER, long) or (school == 0 and until[t] < t + latest):
            t = until[t]  # the stretch is too short from here: on to its end
        elif school == 1 and (t + latest > n or until[t + soon - 1] < t + latest):
            t += 1  # an end falls on the last printed unit
        else:
            return t
    return -1


@numba.njit(cache=True, nogil=True)
def _taken_off(on, spool):  # type: ignore[no-untyped-def]
    """The printer that holds a spool holds none."""
    for m in range(len(on)):
        if on[m] == spool:
            on[m] = -1


@numba.njit(cache=True, nogil=True)
def laid_out(  # type: ignore[no-untyped-def]
    order,
    where,
    long,
    soon,
    latest,
    spool,
    ready,
    due,
    free,
    loaded,
    change,
    clear,
    dry,
    present,
    until,
    school,
    drier,
    out,
):
    """Hours of a list: rows of ``out`` (n, 4) are setup, start, end, changed; returns (worked, changes, done, late).

    A spool is one thing: ``loaded`` is the spool on each printer (-1: none). To print from another one takes the
    change's minutes, and a spool that is taken from a printer leaves that empty, as one does that goes in the drier.
    """
    at, on = free.copy(), loaded.copy()
    begun = np.zeros(len(free), np.bool_)
    used = np.zeros(len(dry), np.int64)  # from when a spool is free
    for m in range(len(free)):
        if on[m] >= 0:
            used[on[m]] = max(used[on[m]], free[m])  # what prints now prints from it
    dried = np.zeros(len(dry), np.bool_)
    changes, done, late = 0, 0, 0
    for k in order:
        m, s = where[k], spool[k]
        if dry[s] > 0 and not dried[s]:
            t = max(drier, used[s])
            while t < present.shape[0] and not present[t]:
                t += 1
            drier = t + dry[s]
            used[s] = drier
            dried[s] = True
            _taken_off(on, s)
        swap = on[m] != s
        if swap:
            _taken_off(on, s)
        # Clearing and changing needs somebody, too; it may be done the evening before.
        setup = (clear[m] if begun[m] else 0) + (change[m] if swap else 0)
        begin = set_up(max(at[m], used[s]), setup, present, until) if setup > 0 else max(at[m], used[s])
        if begin < 0:
            return False, changes, done, late
        t = earliest(max(begin + setup, ready[k]), long[k], soon[k], latest[k], present, until, school)
        if t < 0:
            return False, changes, done, late
        out[k, 0], out[k, 1], out[k, 2], out[k, 3] = begin, t, t + long[k], 1 if swap else 0
        at[m], on[m], begun[m] = t + long[k], s, True
        used[s] = t + long[k]
        changes += 1 if swap else 0
        done = max(done, t + long[k])
        late += max(t + long[k] - due[k], 0)
    return True, changes, done, late


@numba.njit(cache=True, nogil=True)
def cost_of(goal, worked, changes, done, late, total):  # type: ignore[no-untyped-def]
    """One number to lessen: what was asked for, then soonest done, then all soon."""
    if not worked:
        return 1e18
    rest = done * 1e3 + total * 1e-2
    if goal == 1:
        return changes * 1e8 + late * 1e2 + rest
    if goal == 2:
        return late * 1e8 + rest + changes
    return done * 1e8 + late * 1e3 + changes * 1e2 + total * 1e-2


@numba.njit(cache=True, nogil=True)
def _move(order, where, can):  # type: ignore[no-untyped-def]
    """Two plates change places, one goes elsewhere in the list, one goes on another printer."""
    n = len(order)
    kind = np.random.randint(0, 4)
    a, b = np.random.randint(0, n), np.random.randint(0, n)
    if kind == 0:
        order[a], order[b] = order[b], order[a]
    elif kind < 3:
        v = order[a]
        if a < b:
            for j in range(a, b):
                order[j] = order[j + 1]
        else:
            for j in range(a, b, -1):
                order[j] = order[j - 1]
        order[b] = v
    if kind > 1:
        k = order[np.random.randint(0, n)]
        m = np.random.randint(0, can.shape[1])
        if can[k, m]:
            where[k] = m


@numba.njit(cache=True, nogil=True)
def annealed(  # type: ignore[no-untyped-def]
    order, where, can, goal, rounds, seed, long, soon, latest, spool, ready, due, free, loaded, change, clear,
    dry, present, until, school, drier,
):  # fmt: skip
    """The best list found: order, printers, cost."""
    np.random.seed(seed)
    n = len(order)
    out = np.zeros((n, 4), np.int64)
    best_order, best_where, best = order.copy(), where.copy(), 1e18
    now = 1e18
    trial_order, trial_where = order.copy(), where.copy()
    for i in range(rounds + 1):
        trial_order[:] = order
        trial_where[:] = where
        # Now and then several moves in one: a list that goes may have none that goes beside it.
        moves = min(i, 1 if np.random.random() < 0.7 else np.random.randint(2, 5))
        for _ in range(moves):
            _move(trial_order, trial_where, can)
        worked, changes, done, late = laid_out(
            trial_order, trial_where, long, soon, latest, spool, ready, due, free, loaded, change, clear, dry,
            present, until, school, drier, out,
        )  # fmt: skip
        cost = cost_of(goal, worked, changes, done, late, out[:, 2].sum())
        # Worse by up to some hundredths, or a change, at first, by nothing at last.
        warm = (0.4e8 if goal == 1 else 0.04 * now) * (1 - i / (rounds + 1)) ** 2
        if cost <= now or (now < NOTHING and np.random.random() < np.exp(-(cost - now) / (warm + 1e-9))):
            order[:] = trial_order
            where[:] = trial_where
            now = cost
            if cost < best:
                best, best_order, best_where = cost, trial_order.copy(), trial_where.copy()
    return best_order, best_where, best
