from dataclasses import replace
from nimble_otter.pull.model import SendPlan
from tests.desktop.conftest import settle
def test_zz(make_window, tmp_path):
    window = make_window(demo=True)
    settle(window)
    window.resize(1280, 800)
    window.open_drawer("send")
    settle(window, 0.5)
    d = window.send_drawer
    p = window.pull
    for f in ("csv","xlsx","clipboard","source"):
        p.put(replace(p.pull, send=SendPlan(f, str(tmp_path/"x.csv"))))
        settle(window, 0.3)
        print(f, d.minimumSizeHint().width(), d.formats.minimumSizeHint().width(), d._parts.minimumSizeHint().width(), d.report.minimumSizeHint().width(), d.columns.parentWidget().minimumSizeHint().width(), d.head.minimumSizeHint().width(), d._options.minimumSizeHint().width(), d._shown.minimumSizeHint().width())
    p.put(replace(p.pull, send=SendPlan("csv", str(tmp_path/"x.csv"))))
    d.write.click(); settle(window, 0.4)
    print(d.minimumSizeHint().width(), d.report.minimumSizeHint().width(), d.report.isVisible())
    window.grab().save("/tmp/w/s1.png")
    d.views._group.button(1).click(); settle(window, 0.4)
    window.grab().save("/tmp/w/s2.png")
