"""The whole journey of the tour, as a test."""

import sys

import pytest

from nimble_otter.desktop.tour.tour import Tour


@pytest.mark.timeout(300)
def test_one_journey_through_everything(qapp, home, tmp_path, monkeypatch):
    monkeypatch.setattr("nimble_otter.demo.scene._standin", None)  # documents that no test before has written to
    tour = Tour(tmp_path, pictures=False)
    try:
        for name, step in tour.steps():
            assert step(), name
    finally:
        tour.close()


def test_void_calls_of_the_toolkit_do_not_use_up_none(qapp):
    from PySide6.QtWidgets import QLabel

    label = QLabel()
    before = sys.getrefcount(None)
    for _ in range(3000):
        label.setText("x")
    assert abs(sys.getrefcount(None) - before) < 500
