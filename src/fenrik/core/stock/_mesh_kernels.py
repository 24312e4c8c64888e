"""Kernel behind `mesh`: dual contouring of one brick."""

from __future__ import annotations

import numpy as np

from fenrik.core.kernels import kernel


@kernel
def _crossing(count, at, normal, place, step, out):
    """The hit between place and place + step on a ray; out gets the place and the normal."""
    for k in range(count):
        if place <= at[k] <= place + step:
            out[0] = at[k]
            for c in range(3):
                out[1 + c] = normal[k, c] / 127.0
            return True
    return False


@kernel
def _solve(a, b, centre, out):
    """Least squares with a weak pull to the centre: (AᵀA + λI) x = Aᵀb about the centre of the hits."""
    weight = 0.01
    m00, m11, m22 = a[0] + weight, a[3] + weight, a[5] + weight
    m01, m02, m12 = a[1], a[2], a[4]
    det = m00 * (m11 * m22 - m12 * m12) - m01 * (m01 * m22 - m12 * m02) + m02 * (m01 * m12 - m11 * m02)
    if abs(det) < 1e-12:
        out[0], out[1], out[2] = centre[0], centre[1], centre[2]
        return
    x = b[0] * (m11 * m22 - m12 * m12) - m01 * (b[1] * m22 - m12 * b[2]) + m02 * (b[1] * m12 - m11 * b[2])
    y = m00 * (b[1] * m22 - m12 * b[2]) - b[0] * (m01 * m22 - m12 * m02) + m02 * (m01 * b[2] - b[1] * m02)
    z = m00 * (m11 * b[2] - b[1] * m12) - m01 * (m01 * b[2] - b[1] * m02) + b[0] * (m01 * m12 - m11 * m02)
    out[0], out[1], out[2] = centre[0] + x / det, centre[1] + y / det, centre[2] + z / det


@kernel(nogil=True)
def contour(cx, ax, nx, cy, ay, ny, cz, az, nz, origin, cell, start, stop, own):
    """Dual contour of the nodes [start, stop), drawing the faces of lattice edges that begin at or after `own`.

    c*, a*, n*: counts, places, normals of the x rays (y, z), the y rays (x, z) and the z rays (x, y) of the window.
    """
    n0, n1, n2 = stop[0] - start[0], stop[1] - start[1], stop[2] - start[2]
    inside = np.zeros((n0, n1, n2), np.bool_)
    solid = 0
    for i in range(n0):
        for j in range(n1):
            for q in range(0, cz[i, j], 2):
                lo = (az[i, j, q] - origin[2]) / cell - start[2]
                hi = (az[i, j, q + 1] - origin[2]) / cell - start[2]
                k0, k1 = max(int(np.ceil(lo)), 0), min(int(np.ceil(hi)), n2)
                for k in range(k0, k1):
                    inside[i, j, k] = True
                    solid += 1
    none_v, none_t = np.zeros((0, 3)), np.zeros((0, 3), np.int32)
    if solid == 0 or solid == n0 * n1 * n2:
        return none_v, none_t
    # Sums for each cell: AᵀA (6), Aᵀb (3), centre (3), hits (1).
    sums = np.zeros((n0, n1, n2, 13))
    hit = np.zeros(4)
    quads = 0
    for i in range(n0):
        for j in range(n1):
            for k in range(n2):
                for axis in range(3):
                    i2, j2, k2 = i + (axis == 0), j + (axis == 1), k + (axis == 2)
                    if i2 >= n0 or j2 >= n1 or k2 >= n2 or inside[i, j, k] == inside[i2, j2, k2]:
                        continue
                    quads += 1
                    px, py, pz = (
                        origin[0] + (start[0] + i) * cell,
                        origin[1] + (start[1] + j) * cell,
                        origin[2] + (start[2] + k) * cell,
                    )
                    if axis == 0:
                        ok = _crossing(cx[j, k], ax[j, k], nx[j, k], px, cell, hit)
                    elif axis == 1:
                        ok = _crossing(cy[i, k], ay[i, k], ny[i, k], py, cell, hit)
                    else:
                        ok = _crossing(cz[i, j], az[i, j], nz[i, j], pz, cell, hit)
                    along = hit[0]
                    if not ok:
                        along = (px, py, pz)[axis] + 0.5 * cell
                        hit[1] = hit[2] = hit[3] = 0.0
                        hit[1 + axis] = 1.0 if inside[i, j, k] else -1.0
                    qx = along if axis == 0 else px
                    qy = along if axis == 1 else py
                    qz = along if axis == 2 else pz
                    for da in range(2):
                        for db in range(2):
                            if axis == 0:
                                ci, cj, ck = i, j - da, k - db
                            elif axis == 1:
                                ci, cj, ck = i - da, j, k - db
                            else:
                                ci, cj, ck = i - da, j - db, k
                            if ci < 0 or cj < 0 or ck < 0:
                                continue
                            # Relative to the cell's own corner, in cells, for good numbers.
                            rx = (qx - origin[0]) / cell - (start[0] + ci)
                            ry = (qy - origin[1]) / cell - (start[1] + cj)
                            rz = (qz - origin[2]) / cell - (start[2] + ck)
                            s = sums[ci, cj, ck]
                            d = hit[1] * rx + hit[2] * ry + hit[3] * rz
                            s[0] += hit[1] * hit[1]
                            s[1] += hit[1] * hit[2]
                            s[2] += hit[1] * hit[3]
                            s[3] += hit[2] * hit[2]
                            s[4] += hit[2] * hit[3]
                            s[5] += hit[3] * hit[3]
                            s[6] += hit[1] * d
                            s[7] += hit[2] * d
                            s[8] += hit[3] * d
                            s[9] += rx
                            s[10] += ry
                            s[11] += rz
                            s[12] += 1.0
    if quads == 0:
        return none_v, none_t
    number = np.full((n0, n1, n2), -1, np.int32)
    vertices = np.empty((n0 * n1 * n2 if quads * 4 > n0 * n1 * n2 else quads * 4, 3))
    triangles = np.empty((quads * 2, 3), np.int32)
    nv = nt = 0
    corner = np.zeros(4, np.int32)
    centre, rhs, spot = np.zeros(3), np.zeros(3), np.zeros(3)
    for i in range(n0):
        for j in range(n1):
            for k in range(n2):
                for axis in range(3):
                    i2, j2, k2 = i + (axis == 0), j + (axis == 1), k + (axis == 2)
                    if i2 >= n0 or j2 >= n1 or k2 >= n2 or inside[i, j, k] == inside[i2, j2, k2]:
                        continue
                    if start[0] + i < own[0] or start[1] + j < own[1] or start[2] + k < own[2]:
                        continue
                    if start[0] + i >= own[0] + 32 or start[1] + j >= own[1] + 32 or start[2] + k >= own[2] + 32:
                        continue
                    whole = True
                    for q in range(4):
                        da = 1 if q in (1, 2) else 0
                        db = 1 if q in (2, 3) else 0
                        if axis == 0:
                            ci, cj, ck = i, j - da, k - db
                        elif axis == 1:
                            ci, cj, ck = i - db, j, k - da
                        else:
                            ci, cj, ck = i - da, j - db, k
                        if ci < 0 or cj < 0 or ck < 0:
                            whole = False
                            break
                        if number[ci, cj, ck] < 0:
                            s = sums[ci, cj, ck]
                            for c in range(3):
                                centre[c] = s[9 + c] / s[12]
                            rhs[0] = s[6] - (s[0] * centre[0] + s[1] * centre[1] + s[2] * centre[2])
                            rhs[1] = s[7] - (s[1] * centre[0] + s[3] * centre[1] + s[4] * centre[2])
                            rhs[2] = s[8] - (s[2] * centre[0] + s[4] * centre[1] + s[5] * centre[2])
                            _solve(s, rhs, centre, spot)
                            for c in range(3):
                                base = (start[0] + ci, start[1] + cj, start[2] + ck)[c]
                                vertices[nv, c] = origin[c] + cell * (base + min(max(spot[c], 0.0), 1.0))
                            number[ci, cj, ck] = nv
                            nv += 1
                        corner[q] = number[ci, cj, ck]
                    if not whole:
                        continue
                    if not inside[i, j, k]:
                        triangles[nt, 0], triangles[nt, 1], triangles[nt, 2] = corner[2], corner[1], corner[0]
                        triangles[nt + 1, 0], triangles[nt + 1, 1], triangles[nt + 1, 2] = (
                            corner[3],
                            corner[2],
                            corner[0],
                        )
                    else:
                        triangles[nt, 0], triangles[nt, 1], triangles[nt, 2] = corner[0], corner[1], corner[2]
                        triangles[nt + 1, 0], triangles[nt + 1, 1], triangles[nt + 1, 2] = (
                            corner[0],
                            corner[2],
                            corner[3],
                        )
                    nt += 2
    return vertices[:nv].copy(), triangles[:nt].copy()
