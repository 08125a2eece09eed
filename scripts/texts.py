"""Makes the catalogues of the languages in `src/nimble_otter/locale`: takes what the code says into each `.po`, with
nothing translated yet where it is new, and compiles it. `--check` only tells what is missing or out of date."""

import argparse
import datetime as dt
import io
import sys
import warnings
from pathlib import Path

from babel.messages.catalog import Catalog
from babel.messages.extract import extract_from_dir
from babel.messages.mofile import write_mo
from babel.messages.pofile import read_po, write_po

from nimble_otter.translation import DOMAIN, FOLDER, VALUES

SOURCE = Path(__file__).parents[1] / "src/nimble_otter"
KEYWORDS = {"tr": None, "trn": (1, 2)}
_LONG_AGO = dt.datetime(2026, 1, 1, tzinfo=dt.UTC)  # the same file from the same texts


def said_in_code() -> Catalog:
    """The texts that the code gives to `tr` and `trn`, with the files they stand in, and the values that are shown."""
    catalogue = Catalog(domain=DOMAIN)
    warnings.simplefilter("ignore")  # of values put together beside a text
    found = extract_from_dir(SOURCE, method_map=[("**.py", "python")], keywords=KEYWORDS, comment_tags=())
    for name, _, text, _, _ in sorted(found, key=lambda each: (each[0], each[1])):
        catalogue.add(text, locations=[(name, 0)])
    for value in VALUES:
        catalogue.add(value, locations=[("translation.py", 0)])
    return catalogue


def updated(path: Path, said: Catalog) -> tuple[Catalog, bytes, bytes]:
    """The catalogue of a language as it should be, as text and compiled."""
    with path.open("rb") as stream:
        own = read_po(stream, domain=DOMAIN)
    own.update(said, no_fuzzy_matching=True)
    own.obsolete.clear()
    own.creation_date = own.revision_date = _LONG_AGO
    own.project, own.version, own.msgid_bugs_address = "Nimble Otter", "1", ""
    own.last_translator = own.language_team = "Nimble Otter"
    text, compiled = io.BytesIO(), io.BytesIO()
    write_po(text, own, width=118, sort_by_file=True, include_lineno=False, ignore_obsolete=True)
    write_mo(compiled, own)
    return own, text.getvalue(), compiled.getvalue()


def main() -> int:
    """Write the catalogues, or tell what is out of date."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--check", action="store_true")
    is_check = options.parse_args().check
    said, stale = said_in_code(), []
    for path in sorted(FOLDER.glob(f"*/LC_MESSAGES/{DOMAIN}.po")):
        own, text, compiled = updated(path, said)
        for file, made in ((path, text), (path.with_suffix(".mo"), compiled)):
            if not file.exists() or file.read_bytes() != made:
                stale.append(file.name)
                if not is_check:
                    file.write_bytes(made)
        missing = [m.id for m in own if m.id and (m.fuzzy or not all(m.string if m.pluralizable else [m.string]))]
        print(f"{path.parent.parent.name}: {len(own)} texts, {len(missing)} not translated")
    if is_check and stale:
        print(f"Out of date: {', '.join(stale)}. Run: python scripts/texts.py", file=sys.stderr)
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
