"""What bytes are, and what runs cost."""

import io

import pytest
from PIL import Image

from nimble_otter.pull.costs import EACH, Cost, Costs
from nimble_otter.sources.plans import of_documents, of_mariadb, of_postgresql, of_sqlite
from nimble_otter.table.text.content import MOST_HEX, content_of, hex_lines


def picture(kind, **more):
    stream = io.BytesIO()
    Image.new("RGB", (30, 20)).save(stream, kind, **more)
    return stream.getvalue()


@pytest.mark.parametrize(
    ("data", "word", "suffix", "text"),
    [
        (picture("PNG"), "PNG picture", ".png", None),
        (picture("GIF"), "GIF picture", ".gif", None),
        (picture("PNG")[:20], "PNG picture, damaged", ".png", None),
        ("Größe\n".encode(), "text, UTF-8", ".txt", "Größe\n"),
        ("Größe".encode("utf-16"), "text, UTF-16", ".txt", "Größe"),
        ("Größe".encode("iso-8859-1"), "text, ISO 8859-1", ".txt", "Größe"),
        (b"\0\1\2", "bytes", ".bin", None),
        (b"", "text, UTF-8", ".txt", ""),
        (b"PK\3\4" + b"x" * 40, "ZIP (application/zip)", ".zip", None),
    ],
)
def test_bytes_are_known_by_their_content(data, word, suffix, text):
    found = content_of(data)
    assert (found.word, found.suffix, found.text) == (word, suffix, text)
    assert found.is_picture == (word.endswith("picture"))


def test_a_pictures_metadata_is_read():
    exif = Image.Exif()
    exif[0x010F] = "Otter Optics"
    facts = dict(content_of(picture("JPEG", exif=exif)).facts)
    assert facts["size"] == "30 × 20"
    assert facts["Make"] == "Otter Optics"


def test_hex_has_offsets_and_letters_and_an_end():
    lines = list(hex_lines(bytes(range(60, 80)), 8))
    assert lines[0] == "00003c"[:4] + "00  3c 3d 3e 3f 40 41 42 43  <=>?@ABC" or lines[0].startswith("000000  3c 3d")
    assert lines[2].endswith("LMNO")
    assert len(list(hex_lines(b"x" * (MOST_HEX + 100)))) == MOST_HEX // 16


def test_costs_are_kept_by_text_whatever_its_blanks(tmp_path):
    costs = Costs(tmp_path / "c.json")
    for n in range(EACH + 3):
        costs.add("sqlite:///a", "select  1", Cost("2031-01-01 10:00:00", 0.1, 0.2, n, 10))
    costs.save()
    again = Costs(tmp_path / "c.json")
    assert [c.rows for c in again.of("sqlite:///a", "select 1 ")] == list(range(3, EACH + 3))
    assert again.of("sqlite:///b", "select 1") == ()
    assert "select" not in (tmp_path / "c.json").read_text()
    (tmp_path / "c.json").write_text("{broken")
    assert Costs(tmp_path / "c.json").of("a", "b") == ()
    assert (tmp_path / "c.json.damaged-1").read_text() == "{broken"


def test_plans_of_every_kind_become_trees():
    tree = of_sqlite([(2, 0, 0, "SCAN a"), (5, 0, 0, "TEMP B-TREE"), (6, 5, 0, "inner")])
    assert [(d, n.name) for d, n in tree.lines()] == [(0, "query"), (1, "SCAN a"), (1, "TEMP B-TREE"), (2, "inner")]
    tree = of_postgresql(
        {"Node Type": "Hash Join", "Join Type": "Left", "Hash Cond": "(a = b)", "Plan Rows": 5, "Total Cost": 1.5,
         "Plans": [{"Node Type": "Index Scan", "Index Name": "i", "Relation Name": "r"}]}
    )  # fmt: skip
    assert tree.name == "Hash Join (left)"
    assert (tree.detail, tree.rows, tree.cost) == ("hash cond: (a = b)", 5, 1.5)
    assert tree.children[0].name == "Index Scan using i on r"
    tree = of_mariadb(
        {"query_block": {"cost": 2.5, "filesort": {"temporary_table": {"nested_loop": [
            {"table": {"table_name": "r", "access_type": "ALL", "rows": 7, "attached_condition": "x > 1"}}]}}}}
    )  # fmt: skip
    assert tree.cost == 2.5
    assert [n.name for _, n in tree.lines()] == ["query", "filesort", "temporary table", "read all of r"]
    tree = of_documents({"queryPlanner": {"winningPlan": {"stage": "FETCH", "inputStage": {"stage": "IXSCAN", "indexName": "k"}}}})  # fmt: skip  # noqa: E501
    assert [n.name for _, n in tree.lines()] == ["fetch documents", "read an index using k"]
    tree = of_documents({"stages": [{"$cursor": {"queryPlanner": {"winningPlan": {"stage": "COLLSCAN"}}}}, {"$limit": 3}]})  # fmt: skip  # noqa: E501
    assert [n.name for _, n in tree.lines()] == ["pipeline", "read the whole collection", "$limit"]
