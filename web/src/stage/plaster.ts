import {
  Color,
  DoubleSide,
  LinearSRGBColorSpace,
  PlaneGeometry,
  ShaderMaterial,
  SphereGeometry,
  Vector2,
  Vector4,
} from "three";
import type { Look } from "./kit";

/**
 * Plaster: two lights, warm from above and cool from below, and the shade that the core worked out per vertex
 * (dark in the fissures). Behind a saw plane the surface is hatched: that is what will go.
 * Colours are written as the screen shows them.
 */
const VERTEX = /* glsl */ `
attribute vec4 color;
varying vec3 vNormal;
varying vec3 vHome;
varying float vShade;
varying float vCode;
varying float vKnown;
uniform vec3 uOrigin;
void main() {
  vNormal = normalMatrix * normal;
  vHome = position + uOrigin;
  vShade = color.r * 255.0 / 230.0;
  vCode = color.a > 0.5 ? color.g * 255.0 : 129.0;
  vKnown = color.a;
  gl_Position = projectionMatrix * modelViewMatrix * vec4(position, 1.0);
}
`;

const FRAGMENT = /* glsl */ `
varying vec3 vNormal;
varying vec3 vHome;
varying float vShade;
varying float vCode;
varying float vKnown;
uniform vec4 uSaw[2];
uniform int uMode;      // 0 plaster, 1 all hatched, 2 hatched behind the saws, 3 gone behind the saws, 4 plain ink, 5 foil, 6 dotted foil, 7 map, 8 gum tinted
uniform vec3 uInk;
uniform float uOpacity;
uniform float uReach;   // at the ends of the map's colours, in the unit of its channel
uniform vec2 uScale;    // of its bytes: nought, and what a step is worth
void main() {
  if (uMode == 4) {
    gl_FragColor = vec4(uInk, uOpacity);
    return;
  }
  vec3 n = normalize(vNormal);
  bool inside = !gl_FrontFacing;
  if (inside) n = -n;
  float key = max(dot(n, vec3(-0.4478, 0.6468, 0.6169)), 0.0);
  float fill = max(dot(n, vec3(0.7, -0.3, 0.65)), 0.0);
  float rim = pow(1.0 - max(n.z, 0.0), 3.0);
  vec3 light = vec3(0.36) + key * vec3(0.50, 0.48, 0.45) + fill * vec3(0.20, 0.21, 0.24) + n.z * vec3(0.15, 0.145, 0.14);
  vec3 plaster = vec3(0.94, 0.905, 0.83) * light * vShade;
  plaster *= 1.0 - 0.16 * rim;
  if (inside) plaster = plaster * vec3(0.70, 0.74, 0.78);
  bool behind = dot(uSaw[0].xyz, vHome) + uSaw[0].w < 0.0 || dot(uSaw[1].xyz, vHome) + uSaw[1].w < 0.0;
  bool goes = uMode == 1 || (uMode == 2 && behind);
  if (uMode == 3 && behind) discard;
  if (uMode == 3 && inside) {
    // Looking into a closed body through a cut shows its inside exactly where the cut face would be.
    float fine = mod(gl_FragCoord.x - gl_FragCoord.y, 7.0) < 1.2 ? 0.9 : 1.0;
    gl_FragColor = vec4(vec3(0.72, 0.50, 0.36) * fine, uOpacity);
    return;
  }
  if (goes) {
    float grey = dot(plaster, vec3(0.30, 0.59, 0.11));
    plaster = mix(vec3(grey) * vec3(0.80, 0.86, 0.90), vec3(0.62, 0.68, 0.70), 0.35);
    float stripe = mod(gl_FragCoord.x + gl_FragCoord.y, 9.0);
    if (stripe < 2.2) plaster *= 0.66;
  }
  if (uMode == 7 && vKnown > 0.99) {
    float off = clamp((vCode - uScale.x) * uScale.y / uReach, -1.0, 1.0);
    vec3 end = off < 0.0 ? vec3(0.09, 0.29, 0.55) : vec3(0.60, 0.20, 0.05);
    plaster = mix(vec3(0.93, 0.91, 0.86), end, abs(off)) * (0.45 + 0.5 * light);
  }
  // Of a mesh that knows its teeth: a number is known where there is one, and is below nought where nothing was told.
  if (uMode == 8 && (vKnown < 0.5 || vCode < uScale.x)) plaster *= vKnown < 0.5 ? vec3(0.93, 0.76, 0.72) : vec3(0.86);
  if (uMode == 5 || uMode == 6) {
    plaster = uInk * (0.55 + 0.45 * light);
    if (uMode == 6 && mod(floor(gl_FragCoord.x / 2.0) + floor(gl_FragCoord.y / 2.0), 2.0) > 0.5) plaster = mix(plaster, vec3(1.0), 0.55);
  }
  gl_FragColor = vec4(plaster, uOpacity);
}
`;

export const MODE = { plaster: 0, goes: 1, sawn: 2, gone: 3, ink: 4, foil: 5, dotted: 6, map: 7, teeth: 8 } as const;

interface Looking {
  /** MODE of the program. */
  mode: number;
  ink?: string;
  /** It lies on another surface and has no extent of its own; nothing is picked on it. */
  lies: boolean;
  /**
   * Where two surfaces are the same to the last bit, which is drawn before the other: plus is behind. The numbers are steps
   * of the depth buffer (polygonOffset): what goes lies exactly under what stays; contacts lie on the jaw; the map of a
   * scan that lies on a jaw goes before the jaw, and what overlaps too deep before all.
   */
  behind: number;
  /** By the same number of steps whichever way a face lies: a body's sides, steep to the eye, would come through the wall it stands in. */
  even?: boolean;
}

/** How each kind of mesh is drawn. */
export const LOOKS: Record<Look, Looking> = {
  body: { mode: MODE.plaster, lies: false, behind: 0 },
  goes: { mode: MODE.goes, lies: true, behind: 1 },
  off: { mode: MODE.goes, lies: false, behind: 1 },
  foil: { mode: MODE.foil, ink: "#1d3f8a", lies: true, behind: -1 },
  dotted: { mode: MODE.dotted, ink: "#a3172a", lies: true, behind: -4 },
  waits: { mode: MODE.goes, lies: true, behind: -2 },
  map: { mode: MODE.map, lies: false, behind: -3 },
  teeth: { mode: MODE.teeth, lies: false, behind: 0 },
  letters: { mode: MODE.ink, ink: "#17282b", lies: true, behind: -1, even: true },
};

/**
 * Everything on the stage is drawn by this one program, lines and planes too: a second one would make the page wait for
 * the driver's compiler at the moment a tool is taken up.
 */
export function plasterMaterial(): ShaderMaterial {
  return new ShaderMaterial({
    vertexShader: VERTEX,
    fragmentShader: FRAGMENT,
    side: DoubleSide,
    // Always of the same kind, so that ghosting needs no other program either.
    transparent: true,
    forceSinglePass: true,
    uniforms: {
      uOrigin: { value: [0, 0, 0] },
      uSaw: { value: [new Vector4(0, 0, 0, 1), new Vector4(0, 0, 0, 1)] },
      uMode: { value: MODE.plaster },
      uOpacity: { value: 1 },
      uReach: { value: 1 },
      // How the bytes of a map read: nought, and what a step is worth.
      uScale: { value: new Vector2(129, 0.004) },
      uInk: { value: new Color(0, 0, 0) },
    },
  });
}

interface Ink {
  opacity?: number;
  /** over : drawn over everything; sheet : lets what lies behind it be drawn later; solid : as a body. */
  lies?: "over" | "sheet" | "solid";
}

const inks = new Map<string, ShaderMaterial>();

/** A plain colour for lines, planes and marks. Shared and kept: there are only a few. */
export function ink(colour: string, { opacity = 1, lies = "over" }: Ink = {}): ShaderMaterial {
  const key = `${colour}/${opacity}/${lies}`;
  const known = inks.get(key);
  if (known) return known;
  const made = plasterMaterial();
  made.uniforms.uMode.value = MODE.ink;
  made.uniforms.uOpacity.value = opacity;
  made.uniforms.uInk.value.setStyle(colour, LinearSRGBColorSpace);
  made.depthTest = lies !== "over";
  made.depthWrite = lies === "solid";
  inks.set(key, made);
  return made;
}

/** Sheets and marks are one square and one ball, scaled: shared and kept, like the inks. */
export const SQUARE = new PlaneGeometry(1, 1);
export const BALL = new SphereGeometry(1, 20, 14);
