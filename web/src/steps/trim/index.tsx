import { goodOf } from "../../case/look";
import { type At, rawDigest, rawOf, type Shown, type StepUi, shownAs, shownOf, takesPart } from "../../stage";
import { saw } from "./saw";
import { sawsOf, seenSaws } from "./saws";
import { TeethCard } from "./TeethCard";
import { Numbers, TeethLines } from "./TeethOnStage";
import { join, marginSwab, number, part, tint } from "./teethTools";

const sawing = ({ view }: At) => view.tool?.id === saw.id;

const trim: StepUi = {
  name: "trim",
  tools: [saw, number, join, part, marginSwab, tint],
  Card: TeethCard,
  Draws: TeethLines,
  Words: Numbers,
  hint: "Hatched is what was taken off.",
  auto: (data, piece) => {
    const saws = sawsOf(data, piece);
    return saws
      ? { bottom_mm: `auto ${saws.bottom.mm.toFixed(1)}`, back_mm: `auto ${saws.back.mm.toFixed(1)}` }
      : undefined;
  },
  // While a saw is in the hand, the jaw that it does not act on stands back.
  shows: (at, shown) => {
    const how = shownAs(at, shown);
    return how === "shown" && sawing(at) && shown.piece !== at.view.piece ? "ghost" : how;
  },
  cuts: (at, shown) => {
    const saws = sawing(at) && shown.piece === at.view.piece && shown.role === "raw" ? seenSaws(at, shown.piece) : null;
    return saws && [saws.bottom, saws.back];
  },
};

/** The scan, whole where it is sawn or asked for, with its gum tinted where that is; else what is kept of it, and hatched what goes. */
trim.scene = (at): Shown[] =>
  at.data.pieces
    .filter((p) => takesPart(at, p, { followers: true }))
    .flatMap((piece) => {
      const kept = goodOf(at.data, "trim", piece.id)?.mesh;
      const teeth = goodOf(at.data, "teeth", piece.id)?.mesh;
      if (at.view.tint && teeth && !sawing(at) && !at.view.rawHeld)
        return [shownOf(at, trim, piece, { digest: teeth, role: "teeth", drawn: "teeth" })];
      if (!kept || sawing(at) || at.view.rawHeld) return [rawOf(at, trim, piece)];
      const goes = shownOf(at, trim, piece, {
        digest: rawDigest(at.data, piece),
        role: "goes",
        drawn: "goes",
        early: true,
      });
      return [goes, shownOf(at, trim, piece, { digest: kept, role: "body" })];
    });

export default trim;
