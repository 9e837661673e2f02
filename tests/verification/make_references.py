"""Fine conforming references for test_conforming.py:  pip install scikit-fem;  python make_references.py

Quadratic hexahedra on the mapped cube, linear elasticity, consistent mass, nothing held: a body's first
frequency that is not a rigid motion, and its sag where gravity pulls at it and a part carries it.
Prints what two meshes give, which shows how far they are from converged; references.json keeps the finer one's.
"""

import json
from pathlib import Path

import numpy as np
from scipy.sparse.linalg import LinearOperator, eigsh, splu
from skfem import Basis, BilinearForm, ElementHex2, ElementVector, LinearForm, MeshHex, MeshHex2
from skfem.helpers import ddot, dot, eye, sym_grad, trace

import shapes

COUNTS = {"beam": ((12, 3, 3), (18, 4, 4)), "dome": ((8, 5, 8), (11, 7, 11))}


LAM = shapes.STIFFNESS * shapes.POISSON / ((1 + shapes.POISSON) * (1 - 2 * shapes.POISSON))
MU = shapes.STIFFNESS / (2 * (1 + shapes.POISSON))


@BilinearForm
def stiffness(u, v, w):
    strain = sym_grad(u)
    return ddot(2 * MU * strain + LAM * eye(trace(strain), 3), sym_grad(v))


@BilinearForm
def mass(u, v, w):
    return shapes.DENSITY * dot(u, v)


def solve(name, counts):
    """First frequency, Hz; sag, m; volume, m³."""
    body = shapes.BODIES[name]
    cube = MeshHex2.from_mesh(MeshHex.init_tensor(*(np.linspace(0, 1, n + 1) for n in counts)))
    basis = Basis(MeshHex2(body.place(cube.doflocs.T).T, cube.t), ElementVector(ElementHex2()), intorder=5)
    flat = Basis(cube, ElementVector(ElementHex2()), intorder=5)        # the parameters at the same quadrature points
    @LinearForm
    def pull(v, w):
        return -shapes.DENSITY * 9.81 * v[1]

    @LinearForm
    def foot(v, w):
        parameters = np.moveaxis(flat.mapping.F(flat.X), 0, -1)
        return body.carries(parameters.reshape(-1, 3)).reshape(parameters.shape[:2]) * v[1]

    k, m = stiffness.assemble(basis), mass.assemble(basis)
    ease = shapes.EASE * m
    inverse = splu((k + ease).tocsc())
    load = pull.assemble(basis)
    carried = foot.assemble(basis)
    up = np.zeros(len(load))
    for kind in (basis.nodal_dofs, basis.edge_dofs, basis.facet_dofs, basis.interior_dofs):
        up[kind[1]] = 1.0
    load -= carried * (up @ load) / (up @ carried)
    bend = inverse.solve(load)
    values = eigsh(k, 8, m, sigma=-shapes.EASE, OPinv=LinearOperator(k.shape, inverse.solve),
                   return_eigenvectors=False)
    outside = np.unique(cube.facets[:, cube.boundary_facets()])          # corners: their parameters are known
    fallen = bend[basis.nodal_dofs[1, outside]]
    return {"frequency": float(np.sqrt(np.sort(values)[6]) / (2 * np.pi)),
            "sag": float(body.sag(cube.p[:, outside].T, fallen)), "volume": float(up @ m @ up) / shapes.DENSITY}


def solve_hollow(around, through):
    """First frequency, Hz, and volume, m³, of the hollow ball, by so many hexahedra on a fourth round and through."""
    skin, _ = shapes.skin(lambda u: u, (around, around, around))
    quads = skin.triangles.reshape(2, -1, 3)
    quads = np.column_stack([quads[0], quads[1][:, 2]])
    layer, count = np.arange(through + 1), len(skin.points)
    radius = np.repeat(shapes.HOLLOW - shapes.WALL * layer / through, count)
    points = np.tile(shapes.on_sphere(skin.points), (through + 1, 1)) * radius[:, None]
    hexes = np.concatenate([np.column_stack([quads + k * count, quads + (k + 1) * count]) for k in range(through)])
    order = [0, 1, 3, 4, 2, 5, 7, 6]                            # of the corners of a hexahedron there
    straight = MeshHex2.from_mesh(MeshHex(points.T, hexes[:, order].T))
    meant = MeshHex2.from_mesh(MeshHex(np.tile(radius, (3, 1)), hexes[:, order].T)).doflocs[0]
    bent = MeshHex2(straight.doflocs / np.linalg.norm(straight.doflocs, axis=0) * meant, straight.t)
    basis = Basis(bent, ElementVector(ElementHex2()), intorder=5)
    k, m = stiffness.assemble(basis), mass.assemble(basis)
    inverse = splu((k + shapes.EASE * m).tocsc())
    values = eigsh(k, 8, m, sigma=-shapes.EASE, OPinv=LinearOperator(k.shape, inverse.solve), return_eigenvectors=False)
    up = np.zeros(k.shape[0])
    for kind in (basis.nodal_dofs, basis.edge_dofs, basis.facet_dofs, basis.interior_dofs):
        up[kind[1]] = 1.0
    return {"frequency": float(np.sqrt(np.sort(values)[6]) / (2 * np.pi)),
            "volume": float(up @ m @ up) / shapes.DENSITY}


if __name__ == "__main__":
    found = {name: [solve(name, counts) for counts in meshes] for name, meshes in COUNTS.items()}
    found["hollow"] = [solve_hollow(*counts) for counts in ((5, 1), (7, 2))]
    print(json.dumps(found, indent=1))
    kept = {name: results[-1] for name, results in found.items()}
    Path(__file__).with_name("references.json").write_text(json.dumps(kept, indent=1) + "\n")
