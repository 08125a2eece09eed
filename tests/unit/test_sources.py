"""URIs and their parts, saved sources with their marks, shapes of awkward documents."""

import sys

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimble_otter import memory
from nimble_otter.cli import main
from nimble_otter.errors import SourceError
from nimble_otter.memory import LIMIT
from nimble_otter.pull import Pull, Query, save_pull
from nimble_otter.pull.steps import SortStep
from nimble_otter.pull.steps.sort import SortBy
from nimble_otter.sources import Request, Source, connect, fetch
from nimble_otter.sources.saved import change_sources, load_sources
from nimble_otter.sources.shapes import find_shapes
from nimble_otter.sources.uri import TLS, Parts, kinds, parts_of, url_of

WORDS = st.text("abz09-_ü/@:?&%# ", max_size=6)
HOSTS = st.sampled_from(["localhost", "db.example.test", "127.0.0.1", "::1"])


@given(
    st.sampled_from(["postgresql", "mariadb", "mongodb"]), HOSTS, st.none() | st.integers(1, 65535), WORDS, WORDS,
    st.sampled_from(list(TLS)), st.sampled_from(["", "/etc/ca file.pem"]),
)  # fmt: skip
def test_fields_and_uri_say_the_same(kind, host, port, database, user, tls, ca):
    parts = Parts(kind, host, port, database, user, tls, ca, (("application", "x y"),))
    assert parts_of(url_of(parts)) == parts


@pytest.mark.parametrize(
    ("url", "kind", "again"),
    [
        ("/some/file.db", "sqlite", "sqlite:////some/file.db"),
        ("sqlite:////some/file.db", "sqlite", None),
        ("postgres://a@h/d", "postgresql", None),
        ("mysql://h:3307/d?charset=utf8", "mariadb", None),
        ("mongodb+srv://h/d", "mongodb", None),
        ("mongodb://a:1,b:2/d?replicaSet=r", "mongodb", None),
        ("snowflake://h/d", "other", None),
        ("firebird://h/d", "firebird", None),
        ("postgresql+pg8000://h/d", "other", None),
    ],
)
def test_uris_as_people_write_them_stay_as_they_are(url, kind, again):
    assert parts_of(url).kind == kind
    assert kind in kinds()
    assert url_of(parts_of(url)) == (again or url)


def test_a_port_that_is_no_number_is_said():
    with pytest.raises(ValueError, match="port"):
        parts_of("postgresql://h:x/d")


def test_marks_are_saved_and_passwords_are_not(tmp_path):
    sources = [Source("a", "postgresql://u:secret@h/d", "production", True, True), Source("b", "sqlite:///x.db")]
    change_sources(tmp_path / "s.toml", lambda _: sources)
    assert "secret" not in (tmp_path / "s.toml").read_text()
    found = load_sources(tmp_path / "s.toml")
    assert found == [Source("a", "postgresql://u@h/d", "production", True, True), sources[1]]


def test_shapes_of_deep_and_wide_documents():
    deep = {"a": 1}
    for _ in range(12):
        deep = {"in": deep, "items": [{"n": 1}, {"n": "x"}]}
    wide = [{f"f{n}": n for n in range(k, k + 1000)} for k in (0, 500, 1000)]
    found = find_shapes("c", [deep] * 4 + wide * 2, 10, ("_id",))
    assert found.types[".".join(["in"] * 12) + ".a"] == {"number": 1.0}
    assert found.types["items[].n"] == {"number": 0.5, "text": 0.5}
    assert found.types["items[]"] == {"object": 1.0}
    assert len([p for p in found.types if p.startswith("f")]) == 2000
    assert found.indexed == ("_id",)
    assert abs(sum(s.share for s in found.shapes) - 1) < 1e-9
    assert found.shapes[0].example["items"]


def test_one_off_forms_stand_together():
    common = [{"kind": "a", "x": 1}] * 90
    odd = [{"kind": f"odd {n}", "at": 1, f"own{n % 7}": 1, "u": 2, "v": 3} for n in range(10)]
    found = find_shapes("c", common + odd, 100)
    assert [s.name for s in found.shapes] == ["a", "one-off forms"] or found.shapes[0].name == "a"


def test_a_pull_ends_at_the_memory_that_may_be_held(survey, tmp_path, monkeypatch, capsys):
    assert 0 < memory.resident() < memory.machine()
    assert LIMIT.bytes == int(memory.machine() * memory.SHARE)
    assert not LIMIT.is_reached()
    monkeypatch.setattr(sys.modules["nimble_otter.sources.fetch"], "_LOOK_S", -1)
    monkeypatch.setattr(LIMIT, "_bytes", memory.resident() - 1)
    connection = connect(Source("s", str(survey)))
    try:
        fetched = fetch(connection, Request("select * from reading"))
    finally:
        connection.close()
    assert (fetched.is_full, fetched.was_cut, 0 < fetched.table.rows < 4200) == (True, True, True)
    with pytest.raises(SourceError, match="MB of memory"):
        fetched.refuse_part()
    grouped = Pull("p", Source("s", str(survey)), Query("select * from reading"), (SortStep((SortBy("level_m"),)),))
    save_pull(grouped, tmp_path / "p.pull")
    monkeypatch.setattr(LIMIT, "set", lambda _: None)
    assert main(["run", str(tmp_path / "p.pull"), "--send", str(tmp_path / "out.csv")]) == 3
    assert "memory" in capsys.readouterr().err
    assert not (tmp_path / "out.csv").exists()  # nothing that looks whole
    LIMIT.__class__.set(LIMIT, 512)
    assert LIMIT.bytes == 512 << 20
