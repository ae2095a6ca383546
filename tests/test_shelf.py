"""The shelf returns what it was given; migrations make the schema; others are refused."""

from __future__ import annotations

import sqlite3
import subprocess
from pathlib import Path

import pytest
import sqlalchemy as sa

from jovik.base.errors import ShelfError, UnknownNameError, UsageError
from jovik.sheets.changes import with_claim
from jovik.sheets.sheet import Claim, Drive, Sheet, parse_claim, read_sheet, write_sheet
from jovik.shelf.migrate import revision_of
from jovik.shelf.place import REVISION
from jovik.shelf.schema import metadata
from jovik.shelf.store import Shelf
from tests.conftest import Program

SHEET = Sheet(
    Drive(
        "Fjord 1TB",
        "Halden",
        "Fjord",
        10**12,
        "PCIe 4.0 x4",
        "solid state",
        89.5,
        "EUR",
        5.0,
        600 * 10**12,
    ),
    (
        parse_claim("random read 4KiB depth 32", "900,000 IOPS", printed="box"),
        parse_claim("sequential write", "65us", up_to=False, sustained=True),
        parse_claim(
            "sequential write 1MiB within 8GiB payload 50% compressible",
            "5 GB/s",
            conditions="as measured by the maker",
        ),
    ),
)


def test_a_sheet_survives_toml_and_the_shelf(tmp_path: Path) -> None:
    assert read_sheet(write_sheet(SHEET), "x") == SHEET
    with Shelf(str(tmp_path / "s.db"), create=True) as shelf:
        shelf.additions.enrol(SHEET)
        assert shelf.sheets.get("fjord 1tb") == SHEET
        one: Claim = parse_claim("sequential read", "7000 MB/s")
        shelf.corrections.change_sheet(SHEET, with_claim(SHEET, one))
        assert shelf.sheets.get("Fjord 1TB").claims[-1] == one
        with pytest.raises(UsageError, match="already"):
            shelf.additions.enrol(SHEET)
        with pytest.raises(UnknownNameError) as caught:
            shelf.sheets.get("Fjord 2TB")
        assert "Fjord 1TB" in caught.value.hint


def tables_of(engine: sa.Engine) -> dict[str, tuple[list[object], ...]]:
    """Columns, indexes and references of every table, as SQLite tells them."""
    found = {}
    with engine.connect() as c:

        def told(what: str, of: str) -> list[tuple[object, ...]]:
            return [tuple(r) for r in c.exec_driver_sql(f"pragma {what}({of})")]

        for name in sa.inspect(c).get_table_names():
            indexes = [(*r[2:4], tuple(told("index_info", r[1]))) for r in told("index_list", name)]
            references = [r[2:] for r in told("foreign_key_list", name)]
            found[name] = (told("table_info", name), sorted(indexes), sorted(references))
    return found


def test_the_migrations_make_the_schema_that_a_new_shelf_has(tmp_path: Path) -> None:
    from alembic.autogenerate import compare_metadata
    from alembic.migration import MigrationContext

    from jovik.shelf import engines

    Shelf(str(tmp_path / "new.db"), create=True).close()
    engines._migrate(tmp_path / "migrated.db")
    new, migrated = (engines._connect(tmp_path / f"{x}.db") for x in ("new", "migrated"))
    assert tables_of(new) == tables_of(migrated)
    with new.connect() as a, migrated.connect() as b:
        assert revision_of(a) == revision_of(b) == REVISION
        assert compare_metadata(MigrationContext.configure(b), metadata) == []
        for pragma in ("application_id", "journal_mode"):
            asked = sa.text(f"pragma {pragma}")
            assert a.execute(asked).scalar() == b.execute(asked).scalar()


def test_what_is_no_shelf_is_refused_and_left_alone(tmp_path: Path, jovik: Program) -> None:
    text = tmp_path / "notes.txt"
    text.write_text("a shopping list, long enough to be taken for something else" * 20)
    other = tmp_path / "other.db"
    with sqlite3.connect(other) as connection:
        connection.execute("create table x (y)")
    empty = tmp_path / "empty.db"
    empty.touch()
    for path, said in (
        (text, "not a shelf"),
        (other, "not a Jovik shelf"),
        (empty, "an empty file"),
        (tmp_path, "a folder"),
        (tmp_path / "no.db", "there is no shelf"),
    ):
        before = path.read_bytes() if path.is_file() else None
        answer = jovik("rank", "--shelf", path, status=3)
        assert said in answer.err and answer.out == ""
        assert (path.read_bytes() if path.is_file() else None) == before


def of_the_first_revision(where: Path) -> None:
    """A shelf as the first Jovik wrote it: one drive with one pass."""
    from jovik.shelf import engines

    engines._migrate(where, "0001")
    engine = engines._connect(where)
    zeros = "0, 0, 0, 0, 0, 0"
    with engine.begin() as c:
        for line in (
            "insert into drive (id, name, folded_name, maker, model, interface, medium, "
            "currency) values (1, 'Old', 'old', '', '', '', '', '')",
            "insert into rig (id, name, facts) values (1, 'bench', '{}')",
            "insert into run (id, drive_id, rig_id, target, plan, seed, options, started, "
            "state, laid_out_bytes, version)"
            " values ('r', 1, 1, '{}', 'phrases', 1, '{}', '2026-01-01T00:00:00Z', 'done', 0, '0')",
            "insert into step (id, run_id, position, phrase, kind, conditions, limits, "
            "notes, started) values (1, 'r', 0, 'random read 4KiB',"
            ' \'random read 4KiB\', \'{"engine": "io_uring", "direct": true, '
            "\"span_bytes\": 1}', '[]', '[]', '')",
            "insert into pass (step_id, number, finished, seed, rate_bytes_s, "
            "flushed_rate_bytes_s, iops, read_bytes, written_bytes, elapsed_ns,"
            " flush_ns, cpu_ns, errors, slices, latencies) values (1, 1, '', 1, 5.0, 5.0, "
            f"1.0, {zeros}, '', '')",
        ):
            c.exec_driver_sql(line)
    engine.dispose()


def test_a_shelf_of_the_first_revision_is_brought_up_to_date_and_kept(
    tmp_path: Path, jovik: Program
) -> None:
    of_the_first_revision(jovik.shelf)
    assert (
        jovik("rank", "--format", "json").json["drives"][0]["steps"][0]["rate_bytes_s"]["median"]
        == 5.0
    )
    copy = jovik.shelf.with_name("shelf.db.revision-0001")
    with sqlite3.connect(copy) as old:
        assert old.execute("select version_num from alembic_version").fetchone() == ("0001",)
        assert old.execute("select count(*) from pass").fetchone() == (1,)


def test_the_tab_key_migrates_nothing(tmp_path: Path, jovik: Program) -> None:
    of_the_first_revision(jovik.shelf)
    before = jovik.shelf.read_bytes()
    asked = Program(
        jovik.folder,
        jovik.env | {"_JOVIK_COMPLETE": "bash_complete", "COMP_LINE": "jovik judge O"},
    )
    answer = asked(status=None)
    # The names are read as they are.
    assert "Old" in answer.out and answer.err == "" and jovik.shelf.read_bytes() == before
    jovik("rank")
    assert "Old" in asked(status=None).out


def test_a_later_revision_is_refused(tmp_path: Path) -> None:
    where = tmp_path / "s.db"
    Shelf(str(where), create=True).close()
    with sqlite3.connect(where) as connection:
        connection.execute("update alembic_version set version_num = '9999'")
    with pytest.raises(ShelfError, match="later Jovik"):
        Shelf(str(where))


def test_a_damaged_shelf_is_one_plain_error(tmp_path: Path, jovik: Program) -> None:
    jovik("measure", "model:slate", "random read 4KiB for 1s")
    damaged = bytearray(jovik.shelf.read_bytes())
    damaged[4096:] = b"\xa5" * len(damaged[4096:])
    jovik.shelf.write_bytes(damaged)
    assert "shelf" in jovik("rank", status=3).err


def test_two_processes_write_one_shelf_at_once(jovik: Program) -> None:
    jovik("sheet", "list", status=None)
    pair = [
        subprocess.Popen(
            jovik.command("measure", f"model:{m}"),
            env=jovik.env,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
        )
        for m in ("slate", "drift")
    ]
    errors = [p.communicate(timeout=60)[1] for p in pair]
    assert [p.returncode for p in pair] == [0, 0], errors
    with sqlite3.connect(jovik.shelf) as connection:
        assert connection.execute("select count(*) from pass").fetchone() == (138,)
