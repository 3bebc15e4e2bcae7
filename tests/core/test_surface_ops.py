"""Bending on surfaces known in closed form; distances and cuts beside other libraries."""

from __future__ import annotations

import unittest

import networkx
import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import dijkstra

from bitecore.mesh import Mesh
from bitecore.ops.curvature import bend, evened_normals
from bitecore.ops.mincut import cut_in_two
from bitecore.ops.surface_graph import FAR, Spreading, flooded, surface_graph
from tests.shapes import sheet, sphere


def torus(wide: float = 10.0, thick: float = 3.0, n: int = 160, m: int = 60) -> Mesh:
    u, v = np.meshgrid(np.arange(n) / n * 2 * np.pi, np.arange(m) / m * 2 * np.pi, indexing="ij")
    r = wide + thick * np.cos(v)
    points = np.stack([r * np.cos(u), r * np.sin(u), thick * np.sin(v)], -1).reshape(-1, 3)
    i, j = np.meshgrid(np.arange(n), np.arange(m), indexing="ij")
    a, b, c, d = (((i + x) % n * m + (j + y) % m).ravel() for x, y in ((0, 0), (1, 0), (0, 1), (1, 1)))
    return Mesh.of(points, np.vstack([np.c_[a, b, c], np.c_[b, d, c]]))


class BendTest(unittest.TestCase):
    def test_a_sphere_bends_alike_everywhere(self) -> None:
        ball = sphere(8.0, 60)
        graph = surface_graph(ball)
        found = bend(evened_normals(ball, graph, 1), graph)
        away = np.abs(ball.vertices_mm[:, 2]) < 7.0  # the poles have triangles like needles
        np.testing.assert_allclose(found.least[away], 1 / 8, rtol=0.03)
        np.testing.assert_allclose(np.median(found.on_edges(graph)), 1 / 8, rtol=0.01)

    def test_a_torus_by_its_formula(self) -> None:
        wide, thick = 10.0, 3.0
        ring = torus(wide, thick)
        graph = surface_graph(ring)
        found = bend(evened_normals(ring, graph, 0), graph)
        out = np.hypot(*ring.vertices_mm[:, :2].T)
        # Round the tube 1/thick; round the ring (out - wide) / (thick · out), from standard texts: below nought on the inside.
        np.testing.assert_allclose(found.least, np.minimum((out - wide) / (thick * out), 1 / thick), atol=0.004)
        inner = out < wide - 2.5
        ring_way = np.stack([-ring.vertices_mm[:, 1], ring.vertices_mm[:, 0], 0 * out], 1) / out[:, None]
        self.assertGreater(np.abs((found.across * ring_way).sum(1))[inner].min(), 0.99)

    def test_a_valley_bends_across_and_not_along(self) -> None:
        valley = sheet(81, 41, lambda x, y: 0.05 * x**2, (8.0, 4.0))
        graph = surface_graph(valley)
        found = bend(evened_normals(valley, graph, 0), graph)
        inside = (np.abs(valley.vertices_mm[:, 0]) < 0.3) & (np.abs(valley.vertices_mm[:, 1]) < 1.8)
        np.testing.assert_allclose(found.least[inside], -0.1, rtol=0.02)
        self.assertGreater(np.abs(found.across[inside, 0]).min(), 0.99)


class GraphTest(unittest.TestCase):
    def test_distances_beside_another_library(self) -> None:
        ball = sphere(5.0, 30)
        graph = surface_graph(ball)
        i, j = graph.edges.T
        weights = coo_matrix((graph.length, (i, j)), (len(ball.vertices_mm),) * 2)
        sources = [3, 200, 901]
        theirs = dijkstra(weights, directed=False, indices=sources)
        seed = np.zeros(len(ball.vertices_mm), np.int32)
        seed[sources] = [1, 2, 3]
        label, away = flooded(seed, graph.length, graph)
        np.testing.assert_allclose(away, theirs.min(0), rtol=1e-12)
        sure = np.sort(theirs, 0)[1] - theirs.min(0) > 1e-9
        np.testing.assert_array_equal(label[sure], theirs.argmin(0)[sure] + 1)
        # Along the surface a great circle is the shortest way: no edge path is shorter, nor much longer.
        middle = np.arccos(np.clip(ball.vertices_mm @ ball.vertices_mm[sources[0]] / 25.0, -1, 1)) * 5.0
        self.assertGreater((theirs[0] - middle).min(), -0.05)
        self.assertLess((theirs[0] / np.maximum(middle, 1)).max(), 1.2)

    def test_as_far_as_a_reach_and_over_nothing_blocked(self) -> None:
        flat = sheet(21, 21, lambda x, y: 0 * x)
        graph = surface_graph(flat)
        blocked = np.abs(flat.vertices_mm[:, 0] - 1.0) < 0.01
        start = int(np.argmin(np.linalg.norm(flat.vertices_mm, axis=1)))
        spreading = Spreading(graph)
        which = spreading.reached(np.array([start]), blocked=blocked, reach_mm=3.0)
        self.assertLess(flat.vertices_mm[which, 0].max(), 1.0)
        self.assertLessEqual(spreading.away[which].max(), 3.0)
        self.assertEqual((spreading.away < FAR).sum(), len(which))
        # Along the grid itself it is exact.
        along = which[np.abs(flat.vertices_mm[which, 1]) < 0.01]
        np.testing.assert_allclose(spreading.away[along], np.abs(flat.vertices_mm[along, 0]), atol=1e-9)


class CutTest(unittest.TestCase):
    def test_least_cuts_beside_another_library(self) -> None:
        random = np.random.default_rng(8)
        for _ in range(20):
            edges = np.array([(a, b) for a in range(14) for b in range(a + 1, 14) if random.random() < 0.35], np.int32)
            capacity = random.uniform(0.05, 3.0, len(edges))
            fixed = np.zeros(14, np.int8)
            fixed[[0, 1]], fixed[[12, 13]] = 1, -1
            leaning = np.where(fixed == 0, random.normal(0, 0.5, 14), 0.0)
            side = cut_in_two(edges, capacity, fixed, leaning)
            graph = networkx.DiGraph()
            for (a, b), c in zip(edges.tolist(), capacity, strict=True):
                graph.add_edge(a, b, capacity=c)
                graph.add_edge(b, a, capacity=c)
            for v in range(14):
                if fixed[v] > 0 or leaning[v] > 0:
                    graph.add_edge("this", v, capacity=1e6 if fixed[v] else leaning[v])
                if fixed[v] < 0 or leaning[v] < 0:
                    graph.add_edge(v, "other", capacity=1e6 if fixed[v] else -leaning[v])
            theirs = networkx.minimum_cut_value(graph, "this", "other")
            ours = capacity[side[edges[:, 0]] != side[edges[:, 1]]].sum()
            ours += np.clip(leaning, 0, None)[~side].sum() + np.clip(-leaning, 0, None)[side].sum()
            # Capacities are rounded to thousandths.
            self.assertAlmostEqual(ours, theirs, delta=0.002 * len(edges))
            self.assertTrue(side[:2].all() and not side[12:].any())
