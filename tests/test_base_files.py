"""Files written whole or not at all, and files that only this user could have written."""

from __future__ import annotations

import os
import subprocess
import sys
import textwrap
from collections.abc import Iterator
from pathlib import Path

import pytest

from jovik.base import atomic_files
from jovik.base.atomic_files import (
    create_atomically,
    refuse_foreign,
    replacing,
    replacing_by_path,
    write_atomically,
)
from jovik.base.errors import UsageError
from jovik.base.own_files import make_own_folder, read_own
from tests.conftest import Program
from tests.programs import need, run, succeeds

ROOT = pytest.mark.skipif(os.geteuid() != 0, reason="needs root for mounts and other users")


def test_a_file_is_there_whole_or_as_it_was(tmp_path: Path) -> None:
    place = tmp_path / "file"
    write_atomically(place, b"one")
    with pytest.raises(RuntimeError), replacing(place) as file:
        file.write(b"half of tw")
        raise RuntimeError
    with pytest.raises(RuntimeError), replacing_by_path(place) as path:
        path.write_bytes(b"half of tw")
        raise RuntimeError
    assert place.read_bytes() == b"one" and os.listdir(tmp_path) == ["file"]
    with replacing_by_path(place) as path:
        path.write_bytes(b"two")
    assert place.read_bytes() == b"two" and os.listdir(tmp_path) == ["file"]


def test_what_is_there_stands_where_it_is_not_to_be_replaced(tmp_path: Path) -> None:
    place = tmp_path / "file"
    create_atomically(place, b"one")
    create_atomically(place, b"two")
    with pytest.raises(FileExistsError), replacing(place, overwrite=False) as file:
        file.write(b"three")
    with pytest.raises(FileExistsError), replacing_by_path(place, overwrite=False) as path:
        path.write_bytes(b"three")
    assert place.read_bytes() == b"one" and os.listdir(tmp_path) == ["file"]


def test_no_link_is_followed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    victim = tmp_path / "victim"
    victim.write_bytes(b"somebody's")
    place = tmp_path / "file"
    place.symlink_to(victim)
    write_atomically(place, b"ours")
    assert victim.read_bytes() == b"somebody's" and place.read_bytes() == b"ours"
    # Even who guesses the name that it is written under first, on any file system.
    guessed = tmp_path / atomic_files._part_name("file")
    monkeypatch.setattr(atomic_files, "_part_name", lambda _: guessed.name)
    guessed.symlink_to(victim)
    with pytest.raises(FileExistsError):
        write_atomically(place, b"again")
    monkeypatch.delattr(os, "O_TMPFILE")
    with pytest.raises(FileExistsError):
        write_atomically(place, b"again")
    assert victim.read_bytes() == b"somebody's"


def test_a_file_system_without_unnamed_files_gets_whole_files_too(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.delattr(os, "O_TMPFILE")
    test_a_file_is_there_whole_or_as_it_was(tmp_path)
    (tmp_path / "file").unlink()
    test_what_is_there_stands_where_it_is_not_to_be_replaced(tmp_path)


def test_leftovers_of_the_dead_are_swept_and_those_of_the_living_stay(tmp_path: Path) -> None:
    for sort in ("replacing(P, mode=0o644)", "replacing_by_path(P)"):
        code = f"""
            import os, pathlib, signal, time
            from jovik.base.atomic_files import *
            from jovik.base.atomic_files import replacing, replacing_by_path
            P = pathlib.Path({str(tmp_path / "s.db")!r})
            with {sort} as made:
                print("in", flush=True)
                time.sleep(60)
        """
        words = [sys.executable, "-c", textwrap.dedent(code)]
        dead, living = (subprocess.Popen(words, stdout=subprocess.PIPE) for _ in range(2))
        for one in (dead, living):
            assert one.stdout is not None and one.stdout.readline() == b"in\n"
        dead.kill()
        dead.wait()
        left = len(os.listdir(tmp_path))
        assert left == (2 if "by_path" in sort else 0)
        (tmp_path / ".jovik-0123abcd-mine.part").write_bytes(b"x")
        write_atomically(tmp_path / "s.db", b"x")
        names = os.listdir(tmp_path)
        assert len(names) == 2 + left // 2 and {"s.db", ".jovik-0123abcd-mine.part"} <= set(names)
        living.kill()
        living.wait()
        write_atomically(tmp_path / "s.db", b"x")
        assert set(os.listdir(tmp_path)) == {"s.db", ".jovik-0123abcd-mine.part"}
        for name in os.listdir(tmp_path):
            (tmp_path / name).unlink()


@pytest.mark.parametrize("sort", ["replacing(P)", "replacing_by_path(P)"])
def test_the_next_command_of_any_kind_removes_what_a_killed_one_left(
    shown: Program, tmp_path: Path, sort: str
) -> None:
    """On a file system without unnamed files, or of a copy that needs a path of its own."""
    shown.env["XDG_STATE_HOME"] = str(tmp_path / "state")
    place = tmp_path / "out"
    place.mkdir()
    code = f"""
        import os, pathlib, time
        del os.O_TMPFILE
        from jovik.base.atomic_files import replacing, replacing_by_path
        P = pathlib.Path({str(place / "all.zip")!r})
        with {sort} as made:
            print("in", flush=True)
            time.sleep(60)
    """
    words = [sys.executable, "-c", textwrap.dedent(code)]
    env = os.environ | {"XDG_STATE_HOME": shown.env["XDG_STATE_HOME"]}
    dead, living = (subprocess.Popen(words, stdout=subprocess.PIPE, env=env) for _ in range(2))
    for one in (dead, living):
        assert one.stdout is not None and one.stdout.readline() == b"in\n"
    dead.kill()
    dead.wait()
    assert len(os.listdir(place)) == 2
    shown("sheet", "list")
    assert len(os.listdir(place)) == 1, "of the living it stays"
    living.kill()
    living.wait()
    shown("sheet", "list")
    assert os.listdir(place) == []
    assert os.listdir(tmp_path / "state" / "jovik" / "unfinished") == []


def test_only_what_jovik_made_is_overwritten_unasked(tmp_path: Path) -> None:
    place = tmp_path / "picture.png"
    refuse_foreign(place, b"mark", force=False)
    place.write_bytes(b"\x89PNG" + b"mark" + bytes(10))
    refuse_foreign(place, b"mark", force=False)
    place.write_bytes(b"\x89PNG" + bytes(10))
    with pytest.raises(UsageError, match="Jovik did not make it"):
        refuse_foreign(place, b"mark", force=False)
    refuse_foreign(place, b"mark", force=True)
    (tmp_path / "pipe").unlink(missing_ok=True)
    os.mkfifo(tmp_path / "pipe")
    with pytest.raises(UsageError):  # and does not wait for a writer
        refuse_foreign(tmp_path / "pipe", b"mark", force=False)


WRITERS = {
    "all.zip": ["shelf", "export"],
    "ranking.png": ["picture", "rank"],
    "ranking.svg": ["picture", "rank"],
    "ranking.pdf": ["picture", "rank"],
    "all.html": ["report", "--all"],
    "copy.db": ["shelf", "backup"],
}


@pytest.mark.parametrize("name", WRITERS)
def test_every_writer_leaves_what_is_somebodys(shown: Program, name: str) -> None:
    words, place = WRITERS[name], shown.folder / name
    place.write_bytes(b"somebody's")
    told = shown(*words, "--out", name, status=2).err
    assert "is there already" in told and "--force" in told
    assert place.read_bytes() == b"somebody's"
    shown(*words, "--out", name, "--force")
    first = place.read_bytes()
    assert first != b"somebody's" and len(first) > 1000
    if name not in ("copy.db", "all.zip"):  # what others may rely on is overwritten when told
        shown(*words, "--out", name)
    victim = shown.folder / "victim"
    victim.write_bytes(b"somebody's")
    place.unlink()
    place.symlink_to(victim)
    assert shown(*words, "--out", name, status=2)
    assert victim.read_bytes() == b"somebody's"
    assert not [n for n in os.listdir(shown.folder) if n.startswith(".")]


def test_many_exports_at_once_are_each_whole(shown: Program) -> None:
    exports = [
        subprocess.Popen(
            shown.command("shelf", "export", "--out", "all.zip", "--force"),
            cwd=shown.folder,
            env=shown.env,
        )
        for _ in range(4)
    ]
    assert [e.wait(120) for e in exports] == [0] * 4
    other = shown.folder / "other.db"
    assert "4 runs" in shown("shelf", "import", "all.zip", "--shelf", other).out
    assert not [n for n in os.listdir(shown.folder) if n.startswith(".")]


@pytest.fixture
def small(tmp_path: Path) -> Iterator[Path]:
    """A folder that holds 400 kB."""
    place = tmp_path / "small"
    place.mkdir()
    need("mount", "umount")
    if not succeeds("mount", "-t", "tmpfs", "-o", "size=400k", "tmpfs", place):
        pytest.skip("no mount is allowed here")
    yield place
    run("umount", place)


@ROOT
@pytest.mark.parametrize("name", WRITERS)
def test_a_full_disk_leaves_nothing(shown: Program, small: Path, name: str) -> None:
    (small / "ballast").write_bytes(bytes(385_000))
    told = shown(*WRITERS[name], "--out", small / name, status=3).err
    assert "No space left" in told or "full" in told
    assert os.listdir(small) == ["ballast"]


# One's own


def test_what_others_could_have_written_is_not_ones_own(tmp_path: Path) -> None:
    folder = tmp_path / "cache"
    make_own_folder(folder)
    place = folder / "code.o"
    write_atomically(place, b"code", mode=0o600)
    assert read_own(place) == b"code"
    (folder / "link.o").symlink_to(place)
    with pytest.raises(OSError):
        read_own(folder / "link.o")
    place.chmod(0o620)
    with pytest.raises(PermissionError):
        read_own(place)
    place.chmod(0o600)
    folder.chmod(0o777)
    with pytest.raises(PermissionError):
        read_own(place)
    make_own_folder(folder)  # ours, and only too open
    assert folder.stat().st_mode & 0o777 == 0o700 and read_own(place) == b"code"
    (tmp_path / "elsewhere").symlink_to(folder)
    with pytest.raises(OSError):
        read_own(tmp_path / "elsewhere" / "code.o")
