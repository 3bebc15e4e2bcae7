"""A margin drawn by hand: the line takes its place between its ends, and one undo takes it back."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tests.browser.teeth import TeethCase

# The numbers stand so far beyond the middles of their teeth, away from a place so far before the last of them.
_OUT_MM, _BEFORE_MM = 4.0, 8.0


class MarginTest(TeethCase):
    def pixels(self, number: str) -> tuple[NDArray, NDArray]:
        """(2, 3): from places on the bench (x, y, 1) to the page; and home to bench. By where the numbers of the teeth stand."""
        nodes = self.page.request.get(f"{self.app.address}/api/cases/{number}").json()["nodes"]
        level = next(n for n in nodes if n["step"] == "level")["good"]["home_to_bench"]
        piece = next(n["piece"] for n in nodes if n["jaw"] == "lower")
        bench = np.array(level[piece])
        told = self.told(number)
        middle = np.array([self.on(bench, [t["centre_mm"]])[0, :2] for t in told.values()])
        out = middle - [middle[:, 0].mean(), middle[:, 1].max() - _BEFORE_MM]
        stands = middle + _OUT_MM * out / np.linalg.norm(out, axis=1)[:, None]
        seen = []
        for fdi in told:
            box = self.page.get_by_test_id(f"tooth-{fdi}").bounding_box()
            assert box
            seen.append([box["x"] + box["width"] / 2, box["y"] + box["height"] / 2])
        way, *_ = np.linalg.lstsq(np.c_[stands, np.ones(len(stands))], np.array(seen), rcond=None)
        self.assertLess(np.abs(np.c_[stands, np.ones(len(stands))] @ way - seen).max(), 12.0)
        return way.T, bench

    @staticmethod
    def on(bench: NDArray, points) -> NDArray:  # noqa: ANN001
        return np.array(points) @ bench[:3, :3].T + bench[:3, 3]

    def test_a_line_takes_the_margins_place_between_its_ends(self) -> None:
        page = self.page
        number = self.lower_from_above()
        way, bench = self.pixels(number)
        tooth = self.told(number)[46]
        before, centre = self.on(bench, tooth["margin_mm"]), self.on(bench, [tooth["centre_mm"]])[0]
        # Of the patient's right lower the cheek lies where x goes; which way, its neighbours on the other side say.
        cheek = np.sign(centre[0] - self.on(bench, [self.told(number)[36]["centre_mm"]])[0, 0])
        # Its cheek's side, a millimetre farther out: from above what lies right under the crown is not seen.
        side = before[cheek * (before - centre)[:, 0] > 3.0]
        path = side[np.argsort(side[:, 1])][::3, :2] + [cheek * 1.0, 0.0]
        page.keyboard.press("Shift+N")
        self.press_on("46", "Number")
        page.keyboard.press("Shift+W")
        page.get_by_role("region", name="Margin").get_by_text("Line", exact=True).click()
        screen = np.c_[path, np.ones(len(path))] @ way.T
        page.wait_for_timeout(1000)
        page.mouse.move(*screen[0])
        page.mouse.down()
        for x, y in screen:
            page.mouse.move(x, y)
        page.mouse.up()
        self.wait_margin(number, 46, lambda points: points != tooth["margin_mm"])
        after = self.on(bench, self.told(number)[46]["margin_mm"])
        # Seen from above it went outwards on the cheek's side, as far as it was drawn; on the tongue's nothing was.
        away = np.linalg.norm(after[:, None, :2] - before[None, :, :2], axis=2).min(1)
        self.assertGreater(away.max(), 0.5)
        self.assertLess(away.max(), 2.0)
        self.assertLess(away[cheek * (after - centre)[:, 0] < -1.0].max(), 0.3)
        page.keyboard.press("Control+z")
        self.wait_margin(number, 46, lambda points: points == tooth["margin_mm"])
