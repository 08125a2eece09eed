"""What each drawer and page shows, against what was seen when that was last meant."""

import pytest

from tests.desktop.conftest import settle
from tests.desktop.drawers import take_drawers, take_pages
from tests.desktop.seen import DRAWERS, Seen, assert_meant, come_to_rest


@pytest.mark.timeout(300)
def test_each_drawer_shows_what_it_showed(make_window):
    window = make_window(demo=False)
    window.resize(1280, 800)
    seen = Seen()
    for take in (take_drawers, take_pages):
        take(window, seen, lambda: come_to_rest(window, lambda *seconds: settle(window, *seconds)))
    assert_meant(seen, DRAWERS)
