"""How good the week can be at best, by constraint programming: an easier problem's optimum, or what is proved of it.

Easier: every change of filament is taken for free, and spools are dried as if each had a drier of its own. What is
impossible here is impossible in truth.
"""

from __future__ import annotations

import numpy as np
from ortools.sat.python import cp_model

from knollside.core.run.week import Bound
from knollside.core.run.weeknumbers import Goal, Numbers, starts_of

SECONDS = 1.0


def bound_of(v: Numbers, goal: Goal, value: int, seconds: float = SECONDS) -> Bound:
    """What is proved of the easier problem, and its best plan. ``value`` is what is known to go: no plan worse than it
    is looked at."""
    if goal is Goal.FEWEST_CHANGES:
        return Bound(0)  # the closed bound says all that this would
    model = cp_model.CpModel()
    horizon = len(v.present)
    on: list[list[cp_model.IntervalVar]] = [[] for _ in v.free]
    by_spool: dict[int, list[cp_model.IntervalVar]] = {}
    starts, ends, late, chosen = [], [], [], []
    for k, long in enumerate(v.long.tolist()):
        begin = max(int(v.ready[k]), int(v.dry[v.spool[k]]))
        times = starts_of(v, long, int(v.soon[k]), int(v.latest[k]))
        times = times[times >= begin]
        if not len(times):
            return Bound(value, True)
        start = model.new_int_var_from_domain(cp_model.Domain.from_values(times.tolist()), f"s{k}")
        end = start + long
        starts.append(start)
        ends.append(end)
        choices = []
        for m in np.flatnonzero(v.can[k]).tolist():
            here = model.new_bool_var(f"{k} on {m}")
            choices.append((m, here))
            wide = long + int(v.clear[m])
            on[m].append(model.new_optional_fixed_size_interval_var(start, wide, here, f"i{k} {m}"))
            model.add(start >= int(v.free[m])).only_enforce_if(here)
        model.add_exactly_one([here for _, here in choices])
        chosen.append(choices)
        by_spool.setdefault(int(v.spool[k]), []).append(model.new_fixed_size_interval_var(start, long, f"p{k}"))
        if goal is Goal.DUE_FIRST:
            over = model.new_int_var(0, horizon, f"l{k}")
            model.add(over >= end - int(min(v.due[k], horizon)))
            late.append(over)
    for row in (*on, *by_spool.values()):
        if len(row) > 1:
            model.add_no_overlap(row)
    if goal is Goal.SOONEST:
        done = model.new_int_var(0, value, "done")
        for end in ends:
            model.add(done >= end)
        model.minimize(done)
    else:
        model.minimize(sum(late))
    solver = cp_model.CpSolver()
    solver.parameters.max_time_in_seconds = seconds
    solver.parameters.num_workers = 2
    solver.parameters.random_seed = 1
    status = solver.solve(model)
    if status == cp_model.INFEASIBLE:
        return Bound(value, True)
    low = int(np.ceil(solver.best_objective_bound - 1e-6))
    if status not in (cp_model.OPTIMAL, cp_model.FEASIBLE):
        return Bound(low)
    order = np.argsort([solver.value(s) for s in starts], kind="stable")
    where = np.array([next(m for m, here in row if solver.value(here)) for row in chosen], np.int64)
    return Bound(low, False, np.asarray(order, np.int64), where)
