"""A spool goes in the drier, and comes out dry or too soon; each is one step of undo."""

from __future__ import annotations

from knollside.core.material.cards import material
from knollside.core.model.running import Dried
from knollside.gui.spoolfacts import log_of
from knollside.gui.workspace import Workspace
from knollside.store.records import Spool


def into_drier(workspace: Workspace, spool: Spool, there: bool = True) -> None:
    """It goes in now, or comes out without being dry."""
    log = log_of(spool, workspace.shelf).model_copy(update={"drying_since": workspace.now() if there else None})
    words = "in the drier" if there else "out of the drier"
    workspace.runs.put_spool_log(spool.id, log, f"{spool.name}: {words}")


def came_out_dry(workspace: Workspace, spool: Spool, hours: float) -> None:
    """It is dried: as long as it was in the drier, else for so many ``hours``, at its material's usual heat."""
    log, now = log_of(spool, workspace.shelf), workspace.now()
    if log.drying_since is not None:
        hours = (now - log.drying_since).total_seconds() / 3600
    hours = round(min(max(hours, 0.1), 200.0), 1)
    made = Dried(at=now, hours=hours, celsius=float((material(spool.material).dry or (55, 6))[0]))
    more = log.model_copy(update={"dried": (*log.dried, made), "drying_since": None})
    workspace.runs.put_spool_log(spool.id, more, f"{spool.name}: dried {hours:g} h")
