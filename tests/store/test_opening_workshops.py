"""Opening and replacing a workshop where something is in the way: a true sentence, nothing changed, nothing lost."""

from __future__ import annotations

import contextlib
import multiprocessing
import os
import resource
import shutil
import sqlite3
import stat
from collections.abc import Callable, Iterator
from pathlib import Path

import killing
import pytest
from conftest import box

from knollside.core.model import PrinterFacts, Recipe, Refused
from knollside.store.copies import copies_of, folder_of, keep_copy
from knollside.store.opening import HEAD, NoneThere
from knollside.store.records import Kind
from knollside.store.replacing import prepared, ready_of
from knollside.store.workshop import Workshop


def filled(path: Path, walls: int = 5) -> None:
    shop = Workshop(path, empty=True)
    with shop.together():
        printer = shop.machines.add_printer(PrinterFacts(name="P"))
        part = shop.parts.add(shop.parts.add_job("J"), "Box", box(10, 20, 30), "as made", printer)
        shop.parts.put(part, Kind.RECIPE, Recipe(walls=walls))
    shop.close()


def walls(path: Path) -> int:
    shop = Workshop(path)
    try:
        return shop.parts.get(1).recipe.walls
    finally:
        shop.close()


def beside(path: Path) -> set[str]:
    return {p.name for p in path.parent.iterdir() if p.name.startswith(".")}


def as_somebody(act: Callable[[], str]) -> str:
    """What is said to a person who may not do everything; this test runs as one who may."""
    if os.getuid():
        return act()
    read, write = os.pipe()
    child = os.fork()
    if child == 0:
        try:
            os.setuid(65534)
            os.write(write, act().encode())
        finally:
            os._exit(0)
    os.close(write)
    os.waitpid(child, 0)
    with os.fdopen(read) as told:
        return told.read()


def refusal(path: Path) -> str:
    try:
        Workshop(path).close()
    except Refused as refused:
        return str(refused)
    except BaseException as error:
        return f"{type(error).__name__}: {error}"
    return "opened"


def open_to_all(folder: Path) -> None:
    """Others may get as far as this folder."""
    for p in (folder, *folder.parents):
        with contextlib.suppress(OSError):
            if p.stat().st_uid == os.getuid() and len(p.parts) > 2:
                p.chmod(p.stat().st_mode | 0o055)


@pytest.mark.parametrize("gone", ["missing", "empty"])
def test_a_workshop_that_is_gone_asks_for_a_copy_and_never_opens_empty(tmp_path: Path, gone: str) -> None:
    path = tmp_path / "w.sqlite"
    filled(path)
    assert copies_of(path), "a copy at closing"
    path.write_bytes(b"") if gone == "empty" else path.unlink()
    with pytest.raises(NoneThere, match=f"is {gone}, and") as told:
        Workshop(path)
    assert (path.stat().st_size == 0) if gone == "empty" else not path.exists()
    shop = Workshop.from_copy(path, told.value.copies[0])
    assert shop.parts.get(1).recipe.walls == 5
    shop.close()
    assert not beside(path) and not list(tmp_path.glob("*.damaged*"))
    path.unlink()
    Workshop(path, empty=True).close()
    assert path.exists(), "an empty one, since it was said"


@pytest.mark.parametrize("at", ["making", "ready", "unlinked"])
def test_a_kill_between_the_renames_of_a_restore_leaves_the_one_or_the_other(tmp_path: Path, at: str) -> None:
    path = tmp_path / "w.sqlite"
    filled(path, 5)
    other = tmp_path / "other.sqlite"
    filled(other, 8)
    if at == "making":
        shutil.copy(other, path.with_name(f".making-{path.name}"))
    else:
        prepared(path, lambda fresh: shutil.copy(other, fresh))
    if at == "unlinked":
        path.unlink()
    shop = Workshop(path)
    assert shop.parts.get(1).recipe.walls == (5 if at == "making" else 8)
    # The lock is on the file that is there now: it can be written to, and no second window opens it.
    shop.parts.rename(1, "Still kept")
    with pytest.raises(Refused, match="another window"):
        Workshop(path)
    shop.close()
    assert not beside(path)
    aside = list(tmp_path.glob("w.sqlite.damaged*"))
    assert len(aside) == (1 if at == "ready" else 0)
    assert not aside or walls(aside[0]) == 5


@pytest.mark.parametrize("what", ["folder", "workshop"])
def test_what_is_read_only_is_called_so(tmp_path: Path, what: str) -> None:
    path = tmp_path / "in" / "w.sqlite"
    path.parent.mkdir()
    filled(path)
    open_to_all(path.parent)
    data = path.read_bytes()
    path.chmod(0o666 if what == "folder" else 0o444)
    path.parent.chmod(0o555 if what == "folder" else 0o777)
    mode = path.stat().st_mode
    told = as_somebody(lambda: refusal(path))
    path.parent.chmod(0o755)
    assert "read-only" in told and "damaged" not in told and "sql" not in told.replace("w.sqlite", "").lower()
    assert ("the folder" in told) == (what == "folder")
    assert path.read_bytes() == data and path.stat().st_mode == mode and not beside(path)


@pytest.mark.parametrize("what", ["pipe", "device", "folder", "socket"])
def test_what_is_no_file_is_called_by_its_name_and_left_alone(tmp_path: Path, what: str) -> None:
    path = tmp_path / "w.sqlite"
    if what == "pipe":
        os.mkfifo(path, 0o666)
    elif what == "folder":
        path.mkdir(mode=0o777)
    elif what == "socket":
        os.mknod(path, 0o666 | stat.S_IFSOCK)
    else:
        path = Path("/dev/zero")
    mode = path.stat().st_mode
    with pytest.raises(Refused, match=f"is a {what}, not a file"):
        Workshop(path)
    assert path.stat().st_mode == mode


def test_somebody_elses_database_is_left_alone(tmp_path: Path) -> None:
    path = tmp_path / "w.sqlite"
    with contextlib.closing(sqlite3.connect(path)) as db, db:
        db.execute("CREATE TABLE cats (name)")
    path.chmod(0o644)
    data = path.read_bytes()
    with pytest.raises(Refused, match="a database of another program"):
        Workshop(path)
    assert path.read_bytes() == data and path.stat().st_mode & 0o777 == 0o644


@pytest.mark.parametrize("how", ["no row", "no table", "one that never was"])
def test_a_workshop_that_forgot_its_version_tells_by_its_tables(tmp_path: Path, how: str) -> None:
    path = tmp_path / "w.sqlite"
    filled(path)
    with contextlib.closing(sqlite3.connect(path)) as db, db:
        if how == "no table":
            db.execute("DROP TABLE alembic_version")
        elif how == "no row":
            db.execute("DELETE FROM alembic_version")
        else:
            db.execute("UPDATE alembic_version SET version_num = '0000'")
    if how == "one that never was":
        with pytest.raises(Refused, match="which there never was"):
            Workshop(path)
        return
    assert walls(path) == 5
    with contextlib.closing(sqlite3.connect(path)) as db:
        assert db.execute("SELECT version_num FROM alembic_version").fetchall() == [(HEAD,)]


@contextlib.contextmanager
def no_room(most: int) -> Iterator[None]:
    """No file may grow past so many bytes, as on a disk that is full."""
    soft, hard = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (most, hard))
    try:
        yield
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, (soft, hard))


def test_a_restore_without_room_leaves_all_as_it_was(tmp_path: Path) -> None:
    path = tmp_path / "w.sqlite"
    filled(path)
    shop = Workshop(path)
    shop.parts.put(1, Kind.RECIPE, Recipe(walls=9))
    with no_room(10_000), pytest.raises(Refused, match="full"):
        shop.restore(shop.copies()[0])
    assert not beside(path) and not ready_of(path).exists()
    shop.parts.put(1, Kind.RECIPE, Recipe(walls=11))
    shop.close()
    assert walls(path) == 11


def test_opening_without_room_says_so_and_opens_with_room(tmp_path: Path) -> None:
    path = tmp_path / "w.sqlite"
    filled(path)
    older(path)
    data = path.read_bytes()
    with no_room(1000):
        told = refusal(path)
    assert "damaged" not in told and "sql" not in told.replace("w.sqlite", "").lower()
    assert "full" in told or "does not write" in told
    assert path.read_bytes() == data and walls(path) == 5


def older(path: Path) -> None:
    """As it was before the last two versions."""
    with contextlib.closing(sqlite3.connect(path)) as db, db:
        for table in ("numbers", "photos"):
            db.execute(f"DROP TABLE {table}")
        for column in ("details", "details_seal"):
            db.execute(f"ALTER TABLE prints DROP COLUMN {column}")
        db.execute("UPDATE alembic_version SET version_num = '0005'")
        db.execute("PRAGMA journal_mode=DELETE")


def test_killed_at_any_statement_of_a_migration_it_opens_with_everything(tmp_path: Path) -> None:
    source = tmp_path / "source.sqlite"
    filled(source)
    older(source)
    ended, at = False, 1
    while not ended and at < 500:
        path = tmp_path / f"{at}.sqlite"
        shutil.copy(source, path)
        process = multiprocessing.get_context("forkserver").Process(target=killing.open_until, args=(path, at))
        process.start()
        process.join(120)
        assert process.exitcode in (0, killing.GONE)
        ended = process.exitcode == 0
        shop = Workshop(path)
        assert shop.parts.get(1).recipe.walls == 5 and not shop.told, f"at statement {at}"
        shop.close()
        assert not beside(path) and not list(tmp_path.glob(f"{at}.sqlite.damaged*"))
        at += 1
    assert ended and at > 10


def test_half_made_files_are_swept(tmp_path: Path) -> None:
    path = tmp_path / "w[1].sqlite"
    filled(path)
    for name in (".renewing-w[1].sqlite", ".saving-w[1].sqlite-wal", ".taken-in-w[1].sqlite", ".renewing-w1.sqlite"):
        (tmp_path / name).write_bytes(b"half")
    (folder_of(path) / ".making-77").write_bytes(b"half")
    keep_copy(path, "by hand")
    Workshop(path).close()
    assert beside(path) == {".renewing-w1.sqlite"} and not (folder_of(path) / ".making-77").exists()


def test_a_file_system_without_links_sets_aside_by_a_copy(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "w.sqlite"
    filled(path)

    def none(*_: object) -> None:
        raise PermissionError(1, "Operation not permitted")

    monkeypatch.setattr(os, "link", none)
    shop = Workshop(path)
    shop.parts.put(1, Kind.RECIPE, Recipe(walls=9))
    aside = shop.restore(shop.copies()[0])
    assert shop.parts.get(1).recipe.walls == 5
    shop.close()
    assert walls(aside) == 9
