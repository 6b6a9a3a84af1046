"""Rotations and Brown's formula as the program tests write them down: from the text of docs/files.md, not from the program."""
import numpy as np


def rotation(omega, phi, kappa):
    (so, sp, sk), (co, cp, ck) = np.sin([omega, phi, kappa]), np.cos([omega, phi, kappa])
    return (
        np.array([[1, 0, 0], [0, co, -so], [0, so, co]])
        @ np.array([[cp, 0, sp], [0, 1, 0], [-sp, 0, cp]])
        @ np.array([[ck, -sk, 0], [sk, ck, 0], [0, 0, 1]])
    )


def image(camera, v):
    u, w = v[:, 0] / -v[:, 2], v[:, 1] / v[:, 2]
    r2 = u * u + w * w
    grow = 1 + camera["k1"] * r2 + camera["k2"] * r2**2 + camera["k3"] * r2**3
    ud = u * grow + camera["p1"] * (r2 + 2 * u * u) + 2 * camera["p2"] * u * w
    wd = w * grow + camera["p2"] * (r2 + 2 * w * w) + 2 * camera["p1"] * u * w
    x = camera["width"] / 2 + camera["x0"] + camera["c"] * ((1 + camera["b1"]) * ud + camera["b2"] * wd)
    return np.column_stack([x, camera["height"] / 2 + camera["y0"] + camera["c"] * wd])
