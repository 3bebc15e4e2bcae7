"""Trim by hand as a technician does it: fence, swab, edge line, touch-up, pieces of pieces; each taken back; two people at once."""

from __future__ import annotations

import re
import time
from collections.abc import Callable
from typing import Any

import numpy as np
from django.test import tag

from bitecore.anatomy.marks import Mark, marked
from bitecore.engine.gives import unpacked_points
from bitecore.files import stl
from bitecore.mesh import face_normals
from bitecore.ops.clip import clip
from bitecore.ops.fields import snapped
from demo.arch import ArchPlan, pair
from demo.variants import impression
from runs.owning import folder
from tests.browser.harness import BrowserCase
from tests.shapes import arches
from tests.shapes import light_jaws as jaws


def unpacked_or(points: Any) -> np.ndarray:
    """Points of an entry, as they are or out of their blob."""
    return unpacked_points(folder().read(points["points"])) if isinstance(points, dict) else np.array(points, float)


SETTLED = ("done", "look", "off", "failed")


class TrimTest(BrowserCase):
    def case(self, number: str) -> dict[str, Any]:
        return self.page.request.get(f"{self.app.address}/api/cases/{number}?step=trim").json()

    def node(self, number: str, name: str) -> dict[str, Any]:
        found = self.case(number)
        node = next((n for n in found["nodes"] if n["id"] == name), {"state": "none"})
        return node | next((d for d in found["opened"] if d["id"] == name), {})

    def wait(self, number: str, name: str, until: Callable[[dict[str, Any]], bool]) -> dict[str, Any]:
        """The node once it is settled and as asked."""
        end = time.monotonic() + 180
        while time.monotonic() < end:
            node = self.node(number, name)
            if node["state"] in SETTLED and until(node):
                return node
            self.page.wait_for_timeout(200)
        raise AssertionError(f"{name} stays {node['state']}: {node.get('flags')}, {node.get('readings')}")

    def value(self, node: dict[str, Any], name: str) -> float:
        return next((r["value"] for r in node["readings"] if r["name"] == name), 0)

    def lower_in_trim(self) -> str:
        number = self.open_pair()
        page = self.page
        page.keyboard.press("Alt+4")
        page.get_by_role("tab", name=re.compile("Lower")).click()
        self.wait(number, "trim/p2", lambda n: n["state"] != "off")
        page.keyboard.press("1")
        page.wait_for_timeout(700)
        return number

    def spot(self, x: float, y: float) -> tuple[float, float]:
        """A place on the stage, by shares of its width and height."""
        box = self.page.get_by_test_id("stage").bounding_box()
        assert box
        return box["x"] + x * box["width"], box["y"] + y * box["height"]

    def stroke(self, page: Any, start: tuple[float, float], end: tuple[float, float], steps: int = 8) -> None:
        page.mouse.move(*start)
        page.mouse.down()
        for k in range(1, steps + 1):
            page.mouse.move(start[0] + (end[0] - start[0]) * k / steps, start[1] + (end[1] - start[1]) * k / steps)
        page.mouse.up()

    def fence(self, corners: list[tuple[float, float]]) -> None:
        for corner in [*corners, corners[0]]:
            self.page.mouse.click(*self.spot(*corner))
            self.page.wait_for_timeout(60)

    @tag("long")
    def test_a_fence_counts_what_lies_behind_and_spares_it_and_a_swab_goes_on(self) -> None:
        page = self.page
        number = self.lower_in_trim()
        page.keyboard.press("Shift+O")
        page.get_by_role("region", name="Fence").wait_for()
        self.fence([(0.42, 0.66), (0.58, 0.66), (0.58, 0.78), (0.42, 0.78)])
        page.get_by_text(re.compile("The fence catches [0-9,]+ triangles on the far side")).wait_for()
        self.assertEqual(self.value(self.node(number, "marked/p2"), "triangles marked to go"), 0)
        page.get_by_role("button", name="Near side only").click()
        near = self.wait(number, "marked/p2", lambda n: self.value(n, "triangles marked to go") > 0)
        page.get_by_role("button", name="right through").click()
        through = self.wait(
            number, "marked/p2", lambda n: self.value(n, "triangles marked to go") > self.value(near, "triangles marked to go")
        )
        page.keyboard.press("Control+z")
        self.wait(number, "marked/p2", lambda n: self.value(n, "triangles marked to go") == self.value(near, "triangles marked to go"))
        self.assertGreater(self.value(through, "triangles marked to go"), 0)
        # The swab, and what it marked grown and taken back.
        page.keyboard.press("Shift+B")
        page.get_by_role("region", name="Swab").wait_for()
        page.wait_for_timeout(1200)
        self.stroke(page, self.spot(0.34, 0.68), self.spot(0.39, 0.68))
        more = self.wait(number, "marked/p2", lambda n: len(n["settings"]["marks"]) == 2)
        self.assertGreater(self.value(more, "triangles marked to go"), self.value(near, "triangles marked to go"))
        page.get_by_role("button", name="Grow what is marked").click()
        self.wait(number, "marked/p2", lambda n: self.value(n, "triangles marked to go") > self.value(more, "triangles marked to go"))
        by_hand = page.get_by_role("list", name="Done by hand")
        by_hand.get_by_role("button", name=re.compile("Drop fence")).click()
        self.wait(number, "marked/p2", lambda n: len(n["settings"]["marks"]) == 2)
        for _ in range(3):
            page.keyboard.press("Control+z")
            page.wait_for_timeout(150)
        self.wait(number, "marked/p2", lambda n: list(n["settings"]["marks"]) == ["m1"])
        # What is marked becomes a piece of its own.
        page.get_by_role("button", name="split off as a piece").click()
        page.locator("[data-piece=p3]").wait_for()

    @tag("long")
    def test_a_swab_from_above_reaches_into_the_undercut(self) -> None:
        """Over the tongue side of 45 and 46, which leans: what it marks are the core's own triangles; some cannot be seen from above."""
        page = self.page
        number = self.lower_in_trim()
        page.keyboard.press("5")
        page.keyboard.press("Shift+B")
        page.get_by_role("region", name="Swab").wait_for()
        page.wait_for_timeout(1500)
        self.stroke(page, self.spot(0.36, 0.42), self.spot(0.36, 0.48))
        node = self.wait(number, "marked/p2", lambda n: self.value(n, "triangles marked to go") > 0)
        mark = next(iter(node["settings"]["marks"].values()))
        points = unpacked_or(mark["points_mm"])
        scan = jaws(3)[1]
        region = marked(scan, [Mark("swab", points, mm=mark["mm"])], np.zeros(len(scan.vertices_mm), np.int64))
        covered = (region.value[scan.faces] > 0).all(1)
        # The scan here is as it came, the one there cleaned: what differs is a hole or two.
        cut = clip(scan, snapped(scan, region.value)).mesh.triangles
        self.assertAlmostEqual(self.value(node, "triangles marked to go"), cut, delta=0.1 * cut)
        under = face_normals(scan)[covered] @ arches(3).lower.up() < -0.05
        self.assertGreater(under.sum(), 3)
        page.keyboard.press("Control+z")
        self.wait(number, "marked/p2", lambda n: not n["settings"]["marks"])
        self.saw_by_numbers(number)

    def saw_by_numbers(self, number: str) -> None:
        """All farther than 12 mm to the patient's left: nothing of the model is left there, and the same to the right."""
        page = self.page
        page.keyboard.press("Shift+K")
        page.get_by_label("How far, in mm").fill("12")
        for side, sign in (("left", 1.0), ("right", -1.0)):
            page.get_by_label("Saw by numbers").select_option(side)
            page.get_by_role("button", name="saw by numbers").click()
            node = self.wait(number, "marked/p2", lambda n: self.value(n, "triangles marked to go") > 1000)
            mark = next(iter(node["settings"]["marks"].values()))
            to_bench = np.array(self.node(number, "level/*")["good"]["home_to_bench"]["p2"])
            at = to_bench[:3, :3] @ unpacked_or(mark["points_mm"])[0] + to_bench[:3, 3]
            self.assertAlmostEqual(at[0], 12.0 * sign, places=3)
            np.testing.assert_allclose(to_bench[:3, :3] @ mark["towards"], [sign, 0, 0], atol=1e-6)
            page.keyboard.press("Control+z")
            self.wait(number, "marked/p2", lambda n: not n["settings"]["marks"])

    @tag("long")
    def test_the_edge_line_is_pulled_and_drawn_and_taken_back(self) -> None:
        page = self.page
        number = self.lower_in_trim()
        page.get_by_label("Edge line").first.select_option("gum")
        before = self.wait(number, "edge/p2", lambda n: bool(n["good"]["line"]))["good"]["line"]
        page.get_by_role("button", name="Edge line", exact=True).click()
        page.keyboard.press("2")
        page.get_by_role("region", name="Edge line").wait_for()
        page.wait_for_timeout(2500)
        # Take hold of the line, from the gum below it; a press that holds nothing changes nothing.
        for y in np.arange(0.74, 0.54, -0.012):
            start = self.spot(0.45, float(y))
            self.stroke(page, start, (start[0], start[1] + 10), 4)
            # Long enough for a pull to be known, so that there is one alone.
            page.wait_for_timeout(500)
            if self.node(number, "edge/p2")["settings"]["pulls"]:
                break
        after = self.wait(number, "edge/p2", lambda n: n["good"]["line"] != before)
        pull = next(iter(after["settings"]["pulls"].values()))
        line = np.array(after["good"]["line"][0])
        self.assertEqual(len(after["settings"]["pulls"]), 1)
        self.assertLess(np.linalg.norm(line - pull["at"], axis=1).min(), 0.6)
        page.get_by_role("list", name="Done by hand").get_by_role("button", name=re.compile("Drop edge line")).click()
        self.wait(number, "edge/p2", lambda n: n["good"]["line"] == before)
        page.get_by_role("button", name="draw", exact=True).click()
        self.stroke(page, self.spot(0.42, 0.62), self.spot(0.5, 0.62), 10)
        self.wait(number, "edge/p2", lambda n: n["good"]["line"] != before)
        page.keyboard.press("Control+z")
        self.wait(number, "edge/p2", lambda n: n["good"]["line"] == before)

    def test_touch_up_is_kept_as_it_was_seen(self) -> None:
        page = self.page
        number = self.lower_in_trim()
        before = self.node(number, "trim/p2")["good"]["mesh"]
        page.keyboard.press("Shift+T")
        seen = page.get_by_test_id("touch-far")
        page.wait_for_selector("[data-testid=touch-far][data-ready=true]")
        page.wait_for_timeout(1500)
        page.get_by_role("button", name="add", exact=True).click()
        self.stroke(page, self.spot(0.6, 0.67), self.spot(0.66, 0.67), 14)
        page.wait_for_function("() => Number(document.querySelector('[data-testid=touch-far]').dataset.most) > 0.01")
        most, corners = float(seen.get_attribute("data-most") or 0), int(seen.get_attribute("data-corners") or 0)
        touch = self.wait(number, "touch/p2", lambda n: bool(n.get("readings")))
        self.assertAlmostEqual(self.value(touch, "touched up, at most"), most, delta=0.001)
        self.assertGreater(corners, 5)
        body = self.wait(number, "trim/p2", lambda n: n["good"]["mesh"] != before)["good"]["mesh"]
        page.reload()
        page.get_by_test_id("stage").wait_for()
        self.assertEqual(self.wait(number, "trim/p2", lambda n: True)["good"]["mesh"], body)
        page.keyboard.press("Control+z")
        self.wait(number, "trim/p2", lambda n: n["good"]["mesh"] == before)

    def test_an_impression_becomes_a_jaw(self) -> None:
        page = self.page
        jaw = pair(ArchPlan(seed=3, grid_mm=0.5)).lower
        self.drop(("tray.stl", stl.write_binary(impression(jaw, upper=False))))
        page.wait_for_url(re.compile("/case/"))
        number = page.url.rsplit("/", 1)[1]
        kind = page.get_by_label("What tray.stl is")
        page.wait_for_function("() => document.querySelector('[data-piece=p1] select')?.value === 'impression'")
        kind.select_option("lower")
        node = self.wait(number, "trim/p1", lambda n: n["state"] in ("done", "look"))
        self.assertGreater(self.value(node, "triangles kept"), 20_000)
        about = self.node(number, "intake/p1")["good"]["about"]
        self.assertTrue(about["turned_inside_out"])
        self.assertGreater(np.dot(about["up"], jaw.up()), 0.98)

    @tag("long")
    def test_two_people_brush_at_once(self) -> None:
        number = self.lower_in_trim()
        mine, other = self.page, self.signed_in("tove")
        other.goto(mine.url)
        other.get_by_test_id("stage").wait_for()
        other.keyboard.press("Alt+4")
        other.get_by_role("tab", name=re.compile("Lower")).click()
        for page in (mine, other):
            page.keyboard.press("1")
            page.keyboard.press("Shift+B")
            page.get_by_role("region", name="Swab").wait_for()
        other.wait_for_timeout(3000)
        for k in range(2):
            self.stroke(mine, self.spot(0.34, 0.66 + 0.02 * k), self.spot(0.4, 0.66 + 0.02 * k))
            self.stroke(other, self.spot(0.62, 0.66 + 0.02 * k), self.spot(0.68, 0.66 + 0.02 * k))
        both = self.wait(number, "marked/p2", lambda n: len(n["settings"]["marks"]) == 4)
        self.assertFalse(any(mark["lost"] for mark in both["good"]["marks"]))
        # Everyone takes back what is their own.
        other.keyboard.press("Control+z")
        self.wait(number, "marked/p2", lambda n: len(n["settings"]["marks"]) == 3)
