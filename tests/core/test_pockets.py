"""Resin that stays, ribs, honeycombs, drains by hand and the map of the wall: closed forms on boxes, and another flood fill on jaws."""

from __future__ import annotations

import unittest

import igl
import numpy as np
from django.test import tag

from bitecore.engine.gives import unpack
from bitecore.mesh import Mesh, check_solid, face_components, volume_ml
from bitecore.ops.assembly import assemble
from bitecore.ops.cavity import Thicker, cavity
from bitecore.ops.crossing import crossing_faces
from bitecore.ops.drains import Ask, drains, rooms_without_air
from bitecore.ops.pockets import pockets
from bitecore.ops.ribs import APART_MM, PASS_MM, Stiffened
from bitecore.ops.rigid import placed
from bitecore.ops.voxels import voxels
from bitecore.runsheet import CASE, evaluate
from tests.core.known import known_store
from tests.core.test_hollow import kept_back_ml
from tests.core.test_runsheet import case
from tests.shapes import box, jaws

FRONT = np.array([0.0, -1.0, 0.0])


def without(body: Mesh, *parts: tuple[tuple[float, float, float], tuple[float, float, float]]) -> Mesh:
    """A body less boxes, each (size, where its low corner is)."""
    cut = []
    for number, (size, at) in enumerate(parts):
        part = box(size)
        low = part.vertices_mm.min(0)
        cut.append((f"room {number}", part.with_vertices(part.vertices_mm - low + at)))
    return assemble(body, cut=cut).body


class PocketsTest(unittest.TestCase):
    def stays(self, body: Mesh, *, plate: float | None = 0.0) -> tuple[list, float]:
        return pockets(voxels(body, cell=0.25, pad=1.0, phase=(0.38, 0.23, 0.09)), plate_mm=plate)

    def test_a_closed_room_keeps_all_and_a_hole_at_its_foot_nothing(self) -> None:
        body = without(box((30, 20, 12)), ((20, 10, 6), (5, 5, 3)))
        left, shut = self.stays(body)
        self.assertEqual(len(left), 1)
        self.assertAlmostEqual(left[0].ml / 1.2, 1, delta=0.05)
        self.assertAlmostEqual(left[0].low_mm[2], 3.1, delta=0.2)
        self.assertAlmostEqual(shut / 200, 1, delta=0.05)
        drained = without(body, ((6, 3, 3), (-1, 8, 3)))
        left, shut = self.stays(drained)
        self.assertLess(sum(p.ml for p in left), 0.01)

    def test_a_hole_half_way_up_keeps_what_lies_under_it(self) -> None:
        body = without(box((30, 20, 12)), ((20, 10, 6), (5, 5, 3)), ((6, 3, 2), (-1, 8, 6)))
        left, _ = self.stays(body)
        self.assertAlmostEqual(sum(p.ml for p in left) / (20 * 10 * 3 / 1000), 1, delta=0.08)

    def test_what_flows_under_a_wall_and_up_is_not_shut_in(self) -> None:
        """Two rooms joined at the foot, a hole at the foot of one: a fill that only goes down finds none of it shut."""
        body = without(
            box((30, 20, 12)), ((9, 10, 6), (4, 5, 3)), ((9, 10, 6), (16, 5, 3)), ((5, 4, 2), (12, 8, 3)), ((6, 3, 2), (-1, 8, 3))
        )
        left, _ = self.stays(body)
        self.assertLess(sum(p.ml for p in left), 0.02)

    def test_a_bowl_in_the_outside_is_no_hollow_of_it(self) -> None:
        """A palate on a squared base, say: poured out, and hanging down while it prints."""
        bowl = without(box((30, 20, 12)), ((20, 10, 3), (5, 5, 9.01)), ((20, 10, 2), (5, 5, 3)))
        grid = voxels(bowl, cell=0.25, pad=1.0, phase=(0.38, 0.23, 0.09))
        z = grid.low[2] + grid.cell * np.arange(grid.inside.shape[2])
        room = np.broadcast_to((z > 2.5) & (z < 5.5), grid.inside.shape)
        self.assertEqual([round(p.ml, 1) for p in pockets(grid, plate_mm=0.0)[0]], [0.6, 0.4])
        left, shut = pockets(grid, plate_mm=0.0, within=room)
        self.assertEqual([round(p.ml, 1) for p in left], [0.4])
        self.assertAlmostEqual(shut / 200, 1, delta=0.05)

    def test_open_underneath_only_while_it_is_held_up(self) -> None:
        body = without(box((30, 20, 12)), ((20, 10, 7), (5, 5, -1)))
        self.assertGreater(sum(p.ml for p in self.stays(body)[0]), 1.0)
        self.assertLess(sum(p.ml for p in self.stays(body, plate=None)[0]), 0.01)


class StiffTest(unittest.TestCase):
    def room(self, **more: object) -> Mesh:
        made = cavity(box((80, 60, 30)), wall_mm=2.0, floor_mm=2.0, **more)  # type: ignore[arg-type]
        assert made.mesh is not None
        self.assertTrue(check_solid(made.mesh).ok)
        self.assertEqual(int(crossing_faces(made.mesh).sum()), 0)
        return made.mesh

    def test_ribs_take_what_they_measure(self) -> None:
        plain, ribbed = self.room(), self.room(stiffened=Stiffened("ribs", 2.0))
        # 76 × 56 × 26 inside; ribs stand every 12 mm from 3 mm over the floor.
        count = round((volume_ml(plain) - volume_ml(ribbed)) * 1000 / (2.0 * 76 * (26 - PASS_MM)))
        self.assertEqual(count, 3)  # where a circle of 7 mm fits
        self.assertAlmostEqual((volume_ml(plain) - volume_ml(ribbed)) * 1000 / (count * 2.0 * 76 * (26 - PASS_MM)), 1, delta=0.06)

    def test_a_honeycomb_takes_the_share_of_its_walls(self) -> None:
        plain, comb = self.room(), self.room(stiffened=Stiffened("honeycomb", 1.2))
        share = 1 - ((APART_MM - 1.2) / APART_MM) ** 2  # of a hexagon less a smaller one
        taken = (volume_ml(plain) - volume_ml(comb)) * 1000 / (76 * 56 * (26 - PASS_MM))
        self.assertAlmostEqual(taken / share, 1, delta=0.08)

    def test_resin_passes_where_the_room_has_a_bottom_of_its_own(self) -> None:
        """Half of it stands 15 mm over the floor: no cell of it is shut."""
        raised = without(box((80, 60, 30)), ((40, 62, 14), (45, -1, -1)))
        made = cavity(raised, wall_mm=2.0, floor_mm=2.0, stiffened=Stiffened("honeycomb", 1.2))
        assert made.mesh is not None
        self.assertTrue(made.ribbed)
        self.assertEqual(face_components(made.mesh)[0], 1)
        self.assertTrue(cavity(raised, wall_mm=2.0, floor_mm=None, stiffened=Stiffened("honeycomb", 1.2)).ribbed)

    def test_a_narrow_room_has_none(self) -> None:
        made = cavity(box((60, 14, 12)), wall_mm=2.0, floor_mm=None, stiffened=Stiffened("ribs", 1.2))
        self.assertFalse(made.ribbed)

    def test_thicker_under_what_is_asked(self) -> None:
        body = box((40, 30, 20))
        top = body.of_faces((body.vertices_mm[body.faces][:, :, 2] > 19.9).all(1))
        made = cavity(body, wall_mm=2.0, floor_mm=2.0, thicker=Thicker(top, 5.0))
        assert made.mesh is not None
        self.assertLess(made.mesh.vertices_mm[:, 2].max(), 15.05)
        self.assertGreater(made.mesh.vertices_mm[:, 2].max(), 14.8)
        self.assertLess(made.mesh.vertices_mm[:, 0].min(), 2.2)


class DrainsTest(unittest.TestCase):
    def setUp(self) -> None:
        self.body = box((60, 40, 20))
        made = cavity(self.body, wall_mm=2.0, floor_mm=2.0)
        assert made.mesh is not None
        self.room = made.mesh

    def ask(self, **more: object) -> Ask:
        return Ask(**({"wall_mm": 2.0, "wide_mm": 3.0, "front": FRONT, "floor_mm": 2.0} | more))  # type: ignore[arg-type]

    def test_put_left_out_and_counted(self) -> None:
        made = drains(self.body, self.room, self.ask(count=4, put={"2": np.array([60.0, 20, 3.4])}, without=frozenset({"3"})))
        self.assertEqual(sorted(d.name for d in made), ["1", "2", "4"])
        moved = next(d for d in made if d.name == "2")
        self.assertLess(np.linalg.norm(moved.at_mm[:2] - [60, 20]), 1.0)

    def test_higher_up_where_it_is_asked(self) -> None:
        made = drains(self.body, self.room, self.ask(count=1, put={"d1": np.array([0.0, 20, 14.0])}))
        high = next(d for d in made if d.name == "d1")
        self.assertLess(np.linalg.norm(high.at_mm - [0, 20, 14]), 1.5)

    def test_through_the_floor(self) -> None:
        made = drains(self.body, self.room, self.ask(down=True))
        self.assertEqual(len(made), 3)
        done = assemble(self.body, cut=[("room", self.room), *((d.name, d.mesh) for d in made)]).body
        self.assertTrue(check_solid(done).ok)
        shut = assemble(self.body, cut=[("room", self.room)]).body
        # Each takes a cylinder of 3 mm (32 sides) out of the floor.
        each = self.room.vertices_mm[:, 2].min() * 0.5 * 32 * 1.5**2 * np.sin(2 * np.pi / 32)
        self.assertAlmostEqual((volume_ml(shut) - volume_ml(done)) * 1000 / (3 * each), 1, delta=0.02)

    def test_never_in_a_tooth(self) -> None:
        teeth = np.array([[60.0, y, z] for y in range(0, 41) for z in range(0, 21)])
        made = drains(self.body, self.room, self.ask(count=6, bar=teeth))
        for each in made:
            self.assertGreater(np.linalg.norm(teeth - each.at_mm, axis=1).min(), 1.5)

    def test_a_room_with_one_drain_has_no_air(self) -> None:
        one = drains(self.body, self.room, self.ask(count=1))
        self.assertEqual(len(rooms_without_air(self.room, one)), 1)
        two = drains(self.body, self.room, self.ask(count=2))
        self.assertEqual(rooms_without_air(self.room, two), [])

    def test_they_lead_out_under_a_land(self) -> None:
        """Beside the room stands nothing; a land as high as half of each drain goes round it, and would dam up what runs out on it."""
        land = box((90, 70, 3.4)).moved(placed(np.eye(3), [-15, -15, 0]))
        body = assemble(self.body, add=[("land", land)]).body
        made = cavity(body, wall_mm=2.0, floor_mm=2.0)
        assert made.mesh is not None
        self.assertGreater(made.mesh.vertices_mm[:, 0].min(), 1.0)  # none in the land
        drained = drains(body, made.mesh, self.ask())
        self.assertEqual(len(drained), 3)
        done = assemble(body, cut=[("room", made.mesh), *((d.name, d.mesh) for d in drained)]).body
        left, shut = pockets(voxels(done, cell=0.4, pad=1.6), plate_mm=0.0, least_ml=0.05)
        self.assertEqual([p.ml for p in left], [])
        self.assertLess(shut, 1.0)

    def test_nor_is_air_missed_where_walls_are_flat_and_corners_far(self) -> None:
        room = box((56, 36, 16)).moved(placed(np.eye(3), [2, 2, 2]))
        made = drains(self.body, room, self.ask(count=4))
        self.assertEqual(len(made), 4)
        self.assertEqual(rooms_without_air(room, made[:2]), [])
        self.assertEqual(len(rooms_without_air(room, made[:1])), 1)


class JawTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.store = known_store()
        cls.document = case(cls.store, *jaws(21))

    def worked(self, step: str, base: dict | None = None, **hollow: object):  # noqa: ANN201
        document = self.document.model_copy(update={"settings": {"hollow": {"*": hollow}, "base": {"*": base or {}}}})
        return evaluate(document, CASE, self.store, until=step).graph

    def value(self, graph, step: str, piece: str, name: str):  # noqa: ANN001, ANN201
        return unpack(graph.node(step, piece).manifest.values[name], self.store.blobs)

    def test_without_drains_it_is_said_how_much_stays_and_a_fix_lets_it_out(self) -> None:
        none = {f"d{n}": {"name": str(n), "at": None} for n in (1, 2, 3)}
        graph = self.worked("drains", base={"shape": "closed"}, style="closed", drains=none)
        for piece in graph.jaws:
            flags = {f["code"]: f for f in graph.node("drains", piece).manifest.flags}
            self.assertLessEqual({"no-drain", "resin-stays", "no-air"}, set(flags))
            said = {r["name"]: r["value"] for r in graph.node("drains", piece).manifest.readings}
            room = next(s.mesh for s in self.value(graph, "hollow", piece, "solids"))
            self.assertAlmostEqual(said["resin that stays inside"] / volume_ml(room), 1, delta=0.05)
            fix = flags["resin-stays"]["fix"]
            # A new drain: one with a number would be taken for one that is there.
            self.assertEqual((fix["step"], fix["at"], fix["id"]), ("hollow", "drains", ""))
        fixed = {"hollow": {p: {"drains": {"d1": f["fix"]["values"]}} for p in graph.jaws for f in [self.stays(graph, p)]}}
        document = self.document.model_copy(
            update={
                "settings": {"base": {"*": {"shape": "closed"}}, "hollow": {"*": {"style": "closed", "drain_count": 1}, **fixed["hollow"]}}
            }
        )
        graph = evaluate(document, CASE, self.store, until="assemble").graph
        for piece in graph.jaws:
            made = self.value(graph, "assemble", piece, "body")
            up = np.array(graph.node("foot").json("foot", piece)["up"])
            x = np.cross(np.eye(3)[int(np.abs(up).argmin())], up)
            x /= np.linalg.norm(x)
            local = made.with_vertices(made.vertices_mm @ np.stack([x, np.cross(up, x), up]).T)
            self.assertLess(kept_back_ml(local, floor=float(local.vertices_mm[:, 2].min()), plate=True), 0.1)

    def stays(self, graph, piece: str) -> dict:  # noqa: ANN001
        return next(f for f in graph.node("drains", piece).manifest.flags if f["code"] == "resin-stays")

    @tag("long")
    def test_styles_side_by_side_are_what_they_are_made_as(self) -> None:
        graph, beside = self.worked("hollow", style="closed"), self.worked("styles", style="closed", compare=True)
        for piece in graph.jaws:
            styles = self.value(beside, "styles", piece, "styles")
            body = self.value(graph, "base", piece, "body")
            room = next(s.mesh for s in self.value(graph, "hollow", piece, "solids"))
            made = assemble(body, cut=[("the cavity", room)]).body
            self.assertAlmostEqual(styles["closed"]["ml"], volume_ml(made), delta=0.02)
            self.assertAlmostEqual(styles["solid"]["ml"], volume_ml(body), places=5)
            self.assertLess(styles["open"]["ml"], styles["closed"]["ml"])

    def test_the_wall_map_beside_another_distance(self) -> None:
        graph = self.worked("wall-map", style="open", wall_mm=2.0)
        for piece in graph.jaws:
            shown = self.value(graph, "wall-map", piece, "map")
            assert shown.channel is not None
            room = next(s.mesh for s in self.value(graph, "hollow", piece, "solids"))
            pick = np.flatnonzero(np.isfinite(shown.channel.values))[::50]
            theirs = np.sqrt(igl.point_mesh_squared_distance(shown.vertices_mm[pick], room.vertices_mm, room.faces.astype(np.int64))[0])
            outer = (theirs > 0.01) & (theirs < 5.9)
            self.assertGreater(outer.sum(), 200)
            self.assertLess(np.abs(shown.channel.values[pick][outer] + 2.0 - theirs[outer]).max(), 0.002)
            self.assertGreater(np.nanmin(shown.channel.values[shown.channel.values > -1.9]), -0.06)
