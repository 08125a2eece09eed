"""What is written is true: links, pictures, the pull file's example, versions, the desktop's files."""

import ast
import configparser
import doctest
import json
import re
import subprocess
import sys
import xml.etree.ElementTree as ET
from dataclasses import fields
from importlib import import_module
from pathlib import Path

import pytest

from nimble_otter import __version__
from nimble_otter.desktop.runtime.settings import USUAL, Settings
from nimble_otter.pull import pull_from_text, pull_to_text
from nimble_otter.pull.steps import STEPS
from nimble_otter.pull.steps.filter import OPERATORS
from nimble_otter.query.local.meaning import ALIKE, FORMS
from nimble_otter.table.ops.combine import How
from nimble_otter.table.ops.group import AggregateFunction as Agg

ROOT = Path(__file__).parents[2]


@pytest.mark.parametrize(
    "name",
    ["README.md", "CONTRIBUTING.md", "docs/architecture.md", "docs/decisions/README.md",
     *(f"docs/guide/{page.name}" for page in ROOT.glob("docs/guide/*.md"))],
)  # fmt: skip
def test_links_lead_somewhere(name):
    page = ROOT / name
    links = re.findall(r"\]\(([^)#]+)\)", page.read_text("utf-8"))
    assert all((page.parent / link).exists() for link in links if "://" not in link), links


@pytest.mark.parametrize("page", [*ROOT.glob("*.md"), *ROOT.glob("docs/**/*.md")], ids=lambda page: page.name)
def test_files_that_are_named_exist(page):
    known = [
        str(path.relative_to(ROOT))
        for top in ("src", "tests", "benchmarks", "scripts", "packaging")
        for path in (ROOT / top).rglob("*.*")
    ]
    named = set(re.findall(r"`([\w/]+\.(?:py|sh))\b", page.read_text("utf-8")))
    gone = [name for name in named if "NAME" not in name and not any(f"/{path}".endswith(f"/{name}") for path in known)]
    assert gone == []


def test_every_page_of_the_guide_is_in_its_index_and_short_enough_to_read():
    pages = {page.name for page in ROOT.glob("docs/guide/*.md")} - {"README.md"}
    index = (ROOT / "docs/guide/README.md").read_text("utf-8")
    assert pages == set(re.findall(r"\]\(([\w-]+\.md)\)", index))
    assert pages == set(re.findall(r"guide/((?!README)[\w-]+\.md)", (ROOT / "mkdocs.yml").read_text("utf-8")))
    for name in pages:
        text = (ROOT / "docs/guide" / name).read_text("utf-8")
        assert text.startswith("# ")
        assert "\n## " in text
        blocks = [block for block in text.split("\n\n") if not block.startswith(("-", "#", "!", "|"))]
        assert all(len(block) < 700 for block in blocks), name


def test_every_setting_is_named_in_the_guide_with_its_usual_value():
    page = (ROOT / "docs/guide/settings.md").read_text("utf-8")
    rows = dict(re.findall(r"\| `\[?(\w+)\]?` \| ?(.*?) ?\|$", page, re.M))
    usual = {each.name: getattr(USUAL, each.name) for each in fields(Settings)}
    assert list(rows) == list(usual)
    told = {"theme": "", "date_form": "", "time_form": "", "time_zone": "", "team_folder": "", "keys": {}}
    for name, value in usual.items():
        plain = json.dumps(value, ensure_ascii=False).strip('"')
        assert value == told[name] if name in told else rows[name].replace(" ", "") == plain, name


def test_every_picture_is_linked_and_they_are_few():
    pictures = {p.name for p in (ROOT / "docs" / "screenshots").glob("*.png")}
    linked = set(re.findall(r"screenshots/([\w-]+\.png)", (ROOT / "README.md").read_text("utf-8")))
    assert pictures == linked
    assert 5 <= len(pictures) < 20


def test_the_pull_files_example_opens_and_says_everything():
    page = (ROOT / "docs" / "pull-file.md").read_text("utf-8")
    pull = pull_from_text(re.search(r"```toml\n(.*?)```", page, re.DOTALL)[1])
    assert [step.kind for step in pull.steps] == list(STEPS)
    assert pull_from_text(pull_to_text(pull)) == pull
    words = " ".join(page.split())
    assert all(operator in words for operator in OPERATORS)
    assert all(word.value in words for words_of in (Agg, How) for word in words_of)


def test_versions_and_the_desktops_files_agree():
    assert f"## {__version__} " in (ROOT / "CHANGELOG.md").read_text("utf-8")
    share = ROOT / "src/nimble_otter/desktop/share"
    (meta_file,) = (share / "metainfo").iterdir()
    (entry_file,) = (share / "applications").iterdir()
    meta = ET.parse(meta_file).getroot()
    assert meta.find("releases/release").get("version") == __version__
    assert [r.get("version") for r in meta.findall("releases/release")] == re.findall(
        r"^## ([\d.]+) ", (ROOT / "CHANGELOG.md").read_text("utf-8"), re.MULTILINE
    )
    entry = configparser.ConfigParser(interpolation=None)
    entry.optionxform = str
    entry.read(entry_file, "utf-8")
    assert entry["Desktop Entry"]["Exec"].split()[0] in {b.text for b in meta.findall("provides/binary")}
    assert {p.stem for p in share.glob("icons/hicolor/*/apps/*")} == {entry["Desktop Entry"]["Icon"]}
    assert meta.findtext("id") == entry_file.stem == entry["Desktop Entry"]["StartupWMClass"]
    subprocess.run(["desktop-file-validate", entry_file], check=True)
    subprocess.run(["appstreamcli", "validate", "--no-net", meta_file], check=True)


def test_fonts_come_with_their_licence():
    fonts = ROOT / "src/nimble_otter/desktop/assets/fonts"
    assert {p.suffix for p in fonts.iterdir()} == {".otf", ".ttf", ".txt"}
    assert "SIL OPEN FONT LICENSE" in (fonts / "OFL.txt").read_text("utf-8")


def test_both_lock_files_pin_every_package_with_its_hash():
    runtime, dev = ((ROOT / name).read_text() for name in ("requirements.lock", "requirements-dev.lock"))
    pins = [dict(re.findall(r"^([\w.-]+)==(\S+)", text, re.MULTILINE)) for text in (runtime, dev)]
    assert pins[0]["pyside6-essentials"] == "6.11.3"
    assert pins[0].items() <= pins[1].items()
    assert all("--hash=sha256:" in block for block in re.split(r"\n(?=\w)", runtime.strip()))
    assert "://" not in runtime + dev


def test_every_function_of_the_local_language_stands_in_its_page():
    page = (ROOT / "docs" / "local-sql.md").read_text("utf-8")
    rows = dict(re.findall(r"^\| `(.+?)` \| .*? \| (.*) \|$", page, re.MULTILINE))
    assert {form.written for form in FORMS.values()} <= set(rows)
    assert all(rows[form.written].startswith(form.says) for form in FORMS.values())
    assert all(f"{name}" in page for name in ALIKE)


@pytest.mark.skipif(sys.version_info[:2] != (3, 11), reason="argparse words its usage otherwise")
def test_completions_and_manual_pages_are_those_of_the_commands():
    told = subprocess.run([sys.executable, ROOT / "scripts" / "command_pages.py", "--check"], capture_output=True,
                          text=True, check=False)  # fmt: skip
    assert (told.returncode, told.stdout) == (0, "")


@pytest.mark.parametrize(("typed", "wanted"), [("que", "query"), ("sources t", "test"), ("apply --re", "--rehearse")])
def test_a_shell_completes(typed, wanted):
    words = ["nimble-otter", *typed.split(" ")]
    page = ROOT / "src/nimble_otter/desktop/share/bash-completion/completions/nimble-otter"
    script = f"""source {page}; COMP_WORDS=({" ".join(words)}); COMP_CWORD={len(words) - 1}
        $(complete -p nimble-otter | sed 's/.*-F \\([^ ]*\\).*/\\1/'); echo "${{COMPREPLY[@]}}" """
    told = subprocess.run(["bash", "-c", script], capture_output=True, text=True, check=True)
    assert told.stdout.split() == [wanted]


def test_examples_in_docstrings_are_true_and_parameters_are_those_of_the_function():
    """The sections that numpydoc has: each parameter named once, in its order, and every example run."""
    shown, wrong = 0, []
    for path in sorted((ROOT / "src/nimble_otter/table").rglob("*.py")):
        text = path.read_text("utf-8")
        for node in ast.walk(ast.parse(text)):
            said = (ast.get_docstring(node) or "") if isinstance(node, ast.FunctionDef) else ""
            if "Parameters\n----" in said:
                section = re.split(r"\n\n(?=\w+\n---)", said.partition("Parameters\n")[2])[0]
                named = re.findall(r"^\*{0,2}(\w[\w, ]*?)(?: :|$)", section.partition("\n")[2], re.M)
                spec = node.args
                taken = [one.arg for one in (*spec.args, *spec.kwonlyargs, spec.kwarg) if one and one.arg != "self"]
                wrong += [] if ", ".join(named).split(", ") == taken else [f"{path.name}: {node.name}: {named}"]
        if ">>> " in text:
            module = import_module(".".join(path.relative_to(ROOT / "src").with_suffix("").parts))
            result = doctest.testmod(module)
            shown += result.attempted
            wrong += [path.name] if result.failed else []
    assert (wrong, shown > 20) == ([], True)
