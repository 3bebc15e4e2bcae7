import { BookOpen, History, Move, Play } from "lucide-react";
import { Matrix4 } from "three";
import { detailOf, flagsOf, goodOf, ofEach } from "../../case/look";
import type { Doings } from "../../case/useCase";
import type { CaseOut, PieceOut } from "../../shared/api/client";
import { useSame } from "../../shared/useSame";
import {
  type At,
  benchPlace,
  type Drawing,
  rawDigest,
  rawOf,
  type Shown,
  type StepUi,
  scansScene,
  shownAs,
  shownOf,
  type Tool,
} from "../../stage";
import { useBench } from "../../store/bench";
import { lookedAt } from "./bites";
import { marks } from "./marks";
import { PlayMove } from "./PlayMove";
import { play } from "./plays";
import { Stands } from "./Stands";
import { swab } from "./swab";
import { useNudge } from "./useNudge";

const BOOK_MM = 37;

function Nudges({ data, doings, inHand }: { data: CaseOut; doings: Doings; inHand: boolean }) {
  useNudge(data, doings, inHand);
  return null;
}

const nudge: Tool = {
  id: "nudge",
  title: "Nudge",
  long: "Nudge: move the lower by hand",
  keys: "m",
  icon: Move,
  hint: "Arrow keys move the lower, Page Up and Page Down lift and lower it: 0.01 mm. With Alt they tilt, roll and turn it: 0.1°. With Shift ten times that. Or type it on the card under More settings.",
  Works: Nudges,
};

const motion: Tool = {
  id: "play",
  title: "In motion",
  long: "In motion: play the lower's move to its bite",
  keys: "i",
  icon: Play,
  group: "Views",
  run: play,
};

const book: Tool = {
  id: "book",
  title: "Book",
  long: "Book: the jaws opened beside each other",
  keys: "b",
  icon: BookOpen,
  group: "Views",
  button: false,
  run: ({ view }) => useBench.getState().openBook(!(view.book && view.step === "bite")),
};

/** Did bite scans put the lower elsewhere than it came? */
const putElsewhere = (data: CaseOut) => flagsOf(detailOf(data, "bite")).some((f) => f.code === "bite-instead");

const cameSo: Tool = {
  id: "came",
  title: "As it came",
  long: "As it came: a ghost beside the bite",
  keys: "j",
  icon: History,
  group: "Views",
  here: ({ data }) => putElsewhere(data),
  on: ({ view }) => view.came,
  run: ({ view }) => useBench.getState().showCame(!view.came),
};

/** Jaws opened like a book: the lower as it is, the upper turned over beside it, both with their teeth to the eye. */
function opened(bench: Matrix4, piece: PieceOut): Matrix4 {
  if ((piece.jaw ?? piece.looks) !== "upper") return new Matrix4().makeTranslation(BOOK_MM, 0, 0).multiply(bench);
  return new Matrix4().makeTranslation(-BOOK_MM, 0, 0).multiply(new Matrix4().makeRotationY(Math.PI)).multiply(bench);
}

/** The lower's move to its bite: from where the scanner had it beside the upper. */
function moveOf(data: CaseOut) {
  const upper = data.pieces.find((p) => p.jaw === "upper");
  const lower = data.pieces.find((p) => p.jaw === "lower");
  return upper && lower ? { piece: lower.id, came: benchPlace(data, upper), place: benchPlace(data, lower) } : null;
}

function Draws({ data, view }: Drawing) {
  const move = useSame(moveOf(data));
  return move && !view.book ? <PlayMove {...move} /> : null;
}

const bite: StepUi = {
  name: "bite",
  tools: [nudge, motion, cameSo, book, swab, marks],
  Draws,
  Card: Stands,
  place: ({ data, view }, piece) => (view.book ? opened(benchPlace(data, piece), piece) : null),
  // While a bite scan is marked only it and the jaws are on the stage, each in a half of its own.
  shows: (at, shown) => {
    const { marking } = at.view;
    if (shown.still) return shownAs(at, shown) === "hidden" ? "hidden" : "ghost";
    if (!marking) return shownAs(at, shown);
    return (shown.jaw && shown.role === "raw") || shown.piece === marking.piece ? "shown" : "hidden";
  },
  layer: ({ view }, shown) => (view.marking && !shown.jaw ? 1 : 0),
  locked: (view) => view.marking !== null,
  facing: (view) => !view.marking && !view.book,
};

const scans = scansScene(bite);

/** The lower where it came, in the upper's coordinates, where bite scans put it elsewhere. */
function asItCame(at: At, piece: PieceOut): Shown[] {
  const upper = at.data.pieces.find((p) => p.jaw === "upper");
  const { book, came, marking } = at.view;
  if (piece.jaw !== "lower" || !upper || !came || book || marking || !putElsewhere(at.data)) return [];
  const shown = shownOf(at, bite, piece, { digest: rawDigest(at.data, piece), role: "came" });
  return [{ ...shown, matrix: benchPlace(at.data, upper), still: true }];
}

/** The lower as it stands in another bite, beside the one the models are in. */
function besideIt(at: At, piece: PieceOut): Shown[] {
  const place = at.view.book || at.view.marking ? null : lookedAt(at.data, at.view, piece);
  if (!place) return [];
  const shown = shownOf(at, bite, piece, { digest: rawDigest(at.data, piece), role: "beside" });
  return [{ ...shown, matrix: place, still: true }];
}

/** The scans; on the jaws where they touch, and of a scan that lies on them how far it lies off. */
bite.scene = (at): Shown[] =>
  scans(at).flatMap((scan) => {
    const piece = at.data.pieces.find((p) => p.id === scan.piece);
    if (!piece) return [];
    if (piece.jaw) {
      const contacts = goodOf(at.data, "contacts");
      const touch = ofEach(contacts?.touch, piece.id);
      const deep = ofEach(contacts?.deep, piece.id);
      return [
        scan,
        ...(touch ? [shownOf(at, bite, piece, { digest: touch, role: "touch", drawn: "foil" })] : []),
        ...(deep ? [shownOf(at, bite, piece, { digest: deep, role: "deep", drawn: "dotted" })] : []),
        ...asItCame(at, piece),
        ...besideIt(at, piece),
      ];
    }
    if (at.view.marking?.piece === piece.id) return [scan];
    const follow = goodOf(at.data, "follow", piece.id);
    const map = ofEach(goodOf(at.data, "fit")?.map, piece.id) ?? follow?.map;
    return [
      map ? shownOf(at, bite, piece, { digest: map, role: "map", drawn: "map" }) : rawOf(at, bite, piece),
      ...(follow?.changed ? [shownOf(at, bite, piece, { digest: follow.changed, role: "deep", drawn: "dotted" })] : []),
    ];
  });

export default bite;
