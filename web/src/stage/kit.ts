import type { LucideIcon } from "lucide-react";
import type { ComponentType } from "react";
import type { Box3, Matrix4 } from "three";
import type { Doings } from "../case/useCase";
import type { CaseOut, NodeDetail, PieceOut, StepOut } from "../shared/api/client";
import type { Point, View, Visibility } from "../store/bench";

/** A plane of a saw in a jaw's home: what lies behind it goes; it is hatched, or with `away` not drawn and the cut faces are. */
export interface Cut {
  on: boolean;
  away?: boolean;
  point: Point;
  keep: Point;
}

/**
 * One mesh on the stage.
 * digest : null while Intake is not through; early : the scan's file, of which there is a light copy in the file's unit.
 * role : what the person knows it as; two of one piece have two. body, raw (the scan itself), or what a step calls it.
 * drawn : how (see LOOKS in plaster.ts).
 * still : it stays where it is while its piece is moved or played.
 */
export interface Shown {
  key: string;
  piece: string;
  jaw: string | null;
  digest: string | null;
  early: { sha256: string; unit_mm: number } | null;
  role: string;
  drawn: Look;
  matrix: Matrix4;
  still?: boolean;
}

export type Look = "body" | "goes" | "off" | "foil" | "dotted" | "waits" | "map" | "teeth" | "letters";

/** The drawn corners of a triangle. */
export type Corners = [number, number, number];

/** Under the pointer: a place on the stage, and how thick the body is there (mm). */
export interface Probed {
  at: Point;
  mm: number;
}

/** All a scene is a function of. */
export interface At {
  data: CaseOut;
  view: View;
}

/** Where a drawn mesh is on the stage, and whether it is still the light copy. */
export interface Bounds {
  box: Box3;
  light: boolean;
}

/** What everything that is drawn for a step or a tool gets. */
export interface Drawing extends At {
  ui: StepUi;
  doings: Doings;
  bounds: Record<string, Bounds>;
  /** While something is pulled the view does not turn. */
  hold: (held: boolean) => void;
}

export interface CardProps extends At {
  ui: StepUi;
  step: StepOut;
  node: NodeDetail | undefined;
  doings: Doings;
}

/**
 * A tool of the stage: from this one definition come its button, its key, its line in the command box and in the overview.
 *
 * id, title, long : its name, on the button, and in the command box
 * keys    : its key
 * hint    : what to do with it, while it is in the hand; useHint : the same where it goes by what was done
 * button  : false keeps it off the toolbar
 * group   : of the overview; Tools where nothing is said
 * run     : it is done at once and never in the hand
 * here    : is it of use now? It always is where nothing is said; on : is it switched on, of one that is a switch
 * picks   : a click on a surface is for it: the place in the home of what was hit, and on the stage
 * draws   : the left button draws on the view, which is turned with the right one then
 * brushes : does it brush on this mesh? Then onBrush gets every place and its triangle, and endBrush the end of the stroke
 * cuts    : planes behind which a mesh is not drawn while it is in the hand
 * onProbe : told how thick the body is under the pointer; null where nothing is
 * Draws   : drawn on the stage while it is in the hand; Words : over the stage
 * Works   : mounted while its step is open, for keys of its own
 * drop    : forget what was begun, as it is put down
 */
export interface Tool {
  id: string;
  title: string;
  long: string;
  keys: string;
  icon?: LucideIcon;
  hint?: string;
  useHint?: () => string;
  button?: boolean;
  group?: string;
  run?: (at: At) => void;
  here?: (at: At) => boolean;
  on?: (at: At) => boolean;
  picks?: boolean;
  draws?: boolean;
  onPick?: (drawing: Drawing, shown: Shown, home: Point, stage: Point) => void;
  brushes?: (shown: Shown) => boolean;
  onBrush?: (drawing: Drawing, shown: Shown, home: Point, start: boolean, adds: boolean, face: Corners | null) => void;
  endBrush?: (drawing: Drawing) => void;
  cuts?: (at: At, shown: Shown) => [Cut, Cut] | null;
  onProbe?: (probed: Probed | null) => void;
  Draws?: ComponentType<Drawing>;
  Words?: ComponentType<Drawing>;
  Works?: ComponentType<{ data: CaseOut; doings: Doings; inHand: boolean }>;
  drop?: () => void;
}

/**
 * What a step brings to the bench: one folder in steps/, found by itself. Everything may be left out; then the bodies as far
 * as they are worked out stand on the stage, and the card is the form of the settings.
 *
 * scene  : what stands on the stage: a pure function of the case and of how it is looked at
 * place  : where a piece stands, other than on the bench; null for there
 * shows  : how one mesh is shown, where the step has a say; null for as the person chose
 * cuts   : planes behind which a mesh is hatched
 * Draws  : drawn on the stage while the step is open; Words : over the stage; Legend : in its corner
 * Card   : on the card above the settings; Below : under them
 * auto   : words in the fields of settings that are left empty
 * hint   : said over the stage while no tool is in the hand, where it goes by the case as a function of that
 * extent : what is brought into view, where that is not all that is drawn
 * floor  : what the coordinates are
 * facing : is the mark that says where the front is of use?
 * gathers : what its parts found on every body stands on its card
 */
export interface StepUi {
  name: string;
  scene?: (at: At) => Shown[];
  place?: (at: At, piece: PieceOut) => Matrix4 | null;
  shows?: (at: At, shown: Shown) => Visibility | null;
  cuts?: (at: At, shown: Shown) => [Cut, Cut] | null;
  Draws?: ComponentType<Drawing>;
  Words?: ComponentType<Drawing>;
  Card?: ComponentType<CardProps>;
  Below?: ComponentType<CardProps>;
  auto?: (data: CaseOut, piece: string) => Record<string, string> | undefined;
  hint?: string | ((at: At) => string);
  extent?: (at: At) => { centre: Point; size: Point } | null;
  floor?: string;
  facing?: (view: View) => boolean;
  gathers?: boolean;
  locked?: (view: View) => boolean;
  layer?: (at: At, shown: Shown) => number;
  tools?: Tool[];
}
