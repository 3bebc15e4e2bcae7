import { goodOf } from "../../case/look";
import type { CaseOut } from "../../shared/api/client";
import {
  type At,
  type CardProps,
  rawDigest,
  rawOf,
  type Shown,
  type StepUi,
  shownAs,
  shownOf,
  takesPart,
} from "../../stage";
import { edgeTool } from "./edgeTool";
import { fence } from "./fence";
import { HandList } from "./HandList";
import { markable } from "./markings";
import { markSwab, threePoints, wholePiece } from "./markTools";
import { inHand, MARK_TOOLS, standsBack } from "./oneJaw";
import { saw } from "./saw";
import { sawsOf, seenSaws } from "./saws";
import { TeethCard } from "./TeethCard";
import { Numbers, TeethLines } from "./TeethOnStage";
import { join, number, part, reducedMap, tint } from "./teethTools";
import { touchable, touchTool } from "./touchTool";

const sawing = (at: At) => inHand(at, saw.id);

function Card(props: CardProps) {
  const { data, node, doings } = props;
  return (
    <>
      <TeethCard {...props} />
      {node && <HandList data={data} piece={node.piece} doings={doings} />}
    </>
  );
}

const trim: StepUi = {
  name: "trim",
  tools: [saw, fence, markSwab, wholePiece, threePoints, edgeTool, touchTool, number, join, part, tint, reducedMap],
  Card,
  Draws: TeethLines,
  Words: Numbers,
  hint: "Hatched is what was taken off.",
  auto: (data, piece) => {
    const saws = sawsOf(data, piece);
    return saws
      ? { bottom_mm: `auto ${saws.bottom.mm.toFixed(1)}`, back_mm: `auto ${saws.back.mm.toFixed(1)}` }
      : undefined;
  },
  // While a tool of one jaw is in the hand, the other stands back.
  shows: (at, shown) => {
    const how = shownAs(at, shown);
    return how === "shown" && standsBack(at, shown.piece) ? "ghost" : how;
  },
  cuts: (at, shown) => {
    const saws = sawing(at) && shown.piece === at.view.piece && shown.role === "raw" ? seenSaws(at, shown.piece) : null;
    return saws && [saws.bottom, saws.back];
  },
};

/** What a tool in the hand works on: the whole of it, and hatched what goes of that. */
function worked(at: At, piece: CaseOut["pieces"][number]): Shown[] | null {
  if (piece.id !== at.view.piece || at.view.rawHeld) return null;
  const on = (whole: string | null, kept: string | null): Shown[] | null =>
    whole && kept
      ? [
          shownOf(at, trim, piece, { digest: whole, role: "whole", drawn: "off" }),
          shownOf(at, trim, piece, { digest: kept, role: "body" }),
        ]
      : null;
  if (inHand(at, ...MARK_TOOLS)) {
    const { whole, kept, caught, waiting } = markable(at.data, piece.id);
    const beyond = caught ? [shownOf(at, trim, piece, { digest: caught, role: "caught", drawn: "dotted" })] : [];
    const before = waiting ? [shownOf(at, trim, piece, { digest: waiting, role: "waiting", drawn: "waits" })] : [];
    return on(whole, kept)?.concat(beyond, before) ?? null;
  }
  if (inHand(at, edgeTool.id)) return on(touchable(at.data, piece.id), goodOf(at.data, "edge", piece.id)?.mesh ?? null);
  if (inHand(at, touchTool.id)) {
    const held = at.view.held?.piece === piece.id ? at.view.held.digest : null;
    const digest = held ?? touchable(at.data, piece.id);
    return digest ? [shownOf(at, trim, piece, { digest, role: "touched" })] : null;
  }
  return null;
}

/** The scan, whole where it is sawn or asked for, with its gum tinted where that is; else what is kept of it, and hatched what goes. */
trim.scene = (at): Shown[] =>
  at.data.pieces
    .filter((p) => takesPart(at, p, { followers: true }))
    .flatMap((piece) => {
      const onIt = worked(at, piece);
      if (onIt) return onIt;
      const kept = goodOf(at.data, "trim", piece.id)?.mesh;
      const teeth = goodOf(at.data, "teeth", piece.id)?.mesh;
      const map = goodOf(at.data, "reduce", piece.id)?.map;
      if (at.view.map && map && !at.view.rawHeld)
        return [shownOf(at, trim, piece, { digest: map, role: "reduced", drawn: "map" })];
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
