import { describe, expect, it } from "vitest";
import { edgesOfFaces, edgeStarts, nearestEdge } from "../src/viewport/taking";

/** Two edges: along x at y = 0 in two stretches, and along x at y = 10. */
const geometry = {
  meta: {},
  edge_counts: new Uint32Array([3, 2]),
  edge_points: new Float32Array([0, 0, 0, 5, 0, 0, 10, 0, 0, 0, 10, 0, 10, 10, 0]),
};

describe("what a click takes", () => {
  it("finds where each edge's points begin", () => {
    expect([...edgeStarts(geometry)]).toEqual([0, 3, 5]);
  });

  it("takes the edge that is nearest to the place, between its points too", () => {
    const starts = edgeStarts(geometry);
    expect(nearestEdge(geometry, starts, [0, 1], [7, 4, 0])).toBe(0);
    expect(nearestEdge(geometry, starts, [0, 1], [7, 6, 0])).toBe(1);
    expect(nearestEdge(geometry, starts, [], [7, 6, 0])).toBeNull();
  });

  it("lists the edges of faces, and none for a side that is missing", () => {
    const found = edgesOfFaces({ meta: {}, edge_faces: new Int32Array([0, 1, 1, -1, 2, 2]) });
    expect(found.get(0)).toEqual([0]);
    expect(found.get(1)).toEqual([0, 1]);
    expect(found.get(2)).toEqual([2]);
    expect(found.has(-1)).toBe(false);
  });
});
