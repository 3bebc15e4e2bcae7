"""docs/add-a-step.md, done in the front end: one folder for a step, one for a tool, and nothing else is edited."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
from pathlib import Path

from tests.browser.harness import ROOT, BrowserCase

STEP = """
import { Hammer } from "lucide-react";
import { detailOf, goodOf } from "../../case/look";
import { type CardProps, Label, type StepUi, type Tool } from "../../stage";

const knock: Tool = {
  id: "knock",
  title: "Knock",
  long: "Knock: try how a body sounds",
  keys: "k",
  icon: Hammer,
  hint: "Press on the body.",
  picks: true,
  Words: () => (
    <Label at={[0, 0, 0]}>
      <span data-testid="knocked">a dull sound</span>
    </Label>
  ),
};

function Card({ data, node }: CardProps) {
  const body = node && goodOf(data, "base", node.piece)?.body;
  const thick = node && detailOf(data, "base", node.piece)?.settings.thickness_mm;
  return body ? <p data-testid="own-card">{thick?.toFixed(1)} mm under it</p> : null;
}

const base: StepUi = { name: "base", tools: [knock], Card, hint: "A body." };

export default base;
"""
TOOL = """
import { Bell } from "lucide-react";
import { say } from "../../store/notices";
import type { Tool } from "../../stage";

const bell: Tool = { id: "bell", title: "Bell", long: "Bell: ring", keys: "y", icon: Bell, run: () => say("It rings.") };

export default bell;
"""


class AddTest(BrowserCase):
    @classmethod
    def setUpClass(cls) -> None:
        """The front end with both folders, type-checked and built beside the real one."""
        cls.copy = Path(tempfile.mkdtemp(prefix="bench-test-web-"))
        cls.addClassCleanup(shutil.rmtree, cls.copy)
        web = ROOT / "web"
        for name in ("src", "public", "index.html", "package.json", "tsconfig.json", "vite.config.ts"):
            source, target = web / name, cls.copy / name
            shutil.copytree(source, target) if source.is_dir() else shutil.copy(source, target)
        (cls.copy / "node_modules").symlink_to((web / "node_modules").resolve())
        for folder, text in (("steps/base", STEP), ("tools/bell", TOOL)):
            # A folder of a step takes the place of the one that ships.
            shutil.rmtree(cls.copy / "src" / folder, ignore_errors=True)
            (cls.copy / "src" / folder).mkdir()
            (cls.copy / "src" / folder / "index.tsx").write_text(text)
        for command in (["tsc", "--noEmit"], ["vite", "build"]):
            done = subprocess.run(
                [cls.copy / "node_modules" / ".bin" / command[0], *command[1:]], cwd=cls.copy, capture_output=True, text=True, check=False
            )
            assert done.returncode == 0, done.stdout + done.stderr
        os.environ["BENCH_WEB_DIST"] = str(cls.copy / "dist")
        try:
            super().setUpClass()
        finally:
            os.environ.pop("BENCH_WEB_DIST")

    def test_both_are_there_with_button_key_hint_card_and_a_line_in_the_overview(self) -> None:
        self.open_pair()
        page = self.page
        bar = page.get_by_role("toolbar", name="Tools")
        self.assertEqual(bar.get_by_role("button", name="Knock").count(), 0)
        self.step("Base").click()
        page.get_by_test_id("own-card").get_by_text("2.0 mm under it").wait_for()
        bar.get_by_role("button", name="Knock").click()
        page.get_by_text("Press on the body.").wait_for()
        page.get_by_test_id("knocked").wait_for()
        page.keyboard.press("Escape")
        page.get_by_test_id("knocked").wait_for(state="detached")
        # A key opens its step and takes the tool up; another step puts it down.
        page.keyboard.press("Alt+4")
        page.keyboard.press("k")
        page.get_by_test_id("knocked").wait_for()
        page.keyboard.press("Alt+2")
        page.get_by_test_id("knocked").wait_for(state="detached")
        bar.get_by_role("button", name="Bell").click()
        page.get_by_text("It rings.").first.wait_for()
        page.keyboard.press("?")
        sheet = page.get_by_role("dialog")
        for words in ("Knock: try how a body sounds", "Bell: ring"):
            sheet.get_by_text(words).wait_for()
