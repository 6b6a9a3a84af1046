"""What check-demo and check-ties share: own LAS reader, own projection, the true surface.

Shares no code with the program, on purpose.
"""
import csv
import math
import struct
from pathlib import Path

import numpy as np
from osgeo import gdal

gdal.UseExceptions()


def table(path):
    with open(path, encoding="utf-8") as file:
        return list(csv.DictReader(row for row in file if not row.startswith("#")))


def read_las(path):
    """Coordinates (n x 3), rays, WKT and colours (n x 3, 8 bits) of a LAS 1.4 file of point format 7, by the standard's
    offsets."""
    data = Path(path).read_bytes()
    signature, encoding = data[0:4], struct.unpack_from("<H", data, 6)[0]
    version = data[24:26]
    header_size, offset, records = struct.unpack_from("<HII", data, 94)
    layout, length = struct.unpack_from("<BH", data, 104)
    legacy = struct.unpack_from("<6I", data, 107)
    scale = np.array(struct.unpack_from("<3d", data, 131))
    shift = np.array(struct.unpack_from("<3d", data, 155))
    bounds = struct.unpack_from("<6d", data, 179)
    count = struct.unpack_from("<Q", data, 247)[0]
    assert signature == b"LASF" and version == b"\x01\x04" and header_size == 375, "not LAS 1.4"
    assert encoding & 16 and layout == 7 and not any(legacy), "encoding, format or legacy counts are wrong"
    assert len(data) == offset + count * length, "the file's length does not fit its header"
    wkt, position = "", header_size
    for _ in range(records):
        user, number, size = struct.unpack_from("<16sHH", data, position + 2)
        if user.rstrip(b"\0") == b"LASF_Projection" and number == 2112:
            wkt = data[position + 54 : position + 54 + size].rstrip(b"\0").decode()
        position += 54 + size
    assert position == offset and wkt, "no WKT, or records do not end where the points begin"
    raw = np.frombuffer(data, dtype=np.uint8, offset=offset).reshape(count, length)
    xyz = raw[:, :12].copy().view("<i4") * scale + shift
    for axis in range(3):
        assert abs(xyz[:, axis].max() - bounds[2 * axis]) < 1e-6 and abs(xyz[:, axis].min() - bounds[2 * axis + 1]) < 1e-6
    return xyz, raw[:, 36], wkt, raw[:, 31:36:2]  # the high bytes of red, green, blue


def extra_bytes(path):
    """The float extra bytes of a LAS 1.4 file, by name (LASF_Spec record 4: 192 bytes each, type 9 is a float)."""
    data = Path(path).read_bytes()
    header_size, offset, records = struct.unpack_from("<HII", data, 94)
    length, count = struct.unpack_from("<H", data, 105)[0], struct.unpack_from("<Q", data, 247)[0]
    raw = np.frombuffer(data, dtype=np.uint8, offset=offset).reshape(count, length)
    out, position = {}, header_size
    sizes = {1: 1, 2: 1, 3: 2, 4: 2, 5: 4, 6: 4, 7: 8, 8: 8, 9: 4, 10: 8}
    for _ in range(records):
        user, number, size = struct.unpack_from("<16sHH", data, position + 2)
        if user.rstrip(b"\0") == b"LASF_Spec" and number == 4:
            at = 36
            for k in range(size // 192):
                kind = data[position + 54 + 192 * k + 2]
                name = data[position + 54 + 192 * k + 4 : position + 54 + 192 * k + 36].rstrip(b"\0").decode()
                if kind == 9:
                    out[name] = raw[:, at : at + 4].copy().view("<f4")[:, 0]
                at += sizes[kind]
        position += 54 + size
    return out


def grid_scale(east):
    """Point scale factor of UTM at an easting, to 1e-7: k0 (1 + dE^2 / (2 k0^2 R^2))."""
    k0, radius = 0.9996, 6.39e6
    return k0 * (1 + (east - 500000.0) ** 2 / (2 * (k0 * radius) ** 2))


def photo_point(station, camera, point):
    """Image point by Brown's terms, written out in the photo's own axes; grid distances brought to true length."""
    omega, phi, kappa = (math.radians(float(station[a])) for a in ("omega", "phi", "kappa"))
    k = grid_scale(float(station["east"]))
    dx = (point[0] - float(station["east"])) / k
    dy = (point[1] - float(station["north"])) / k
    dz = point[2] - float(station["height"])
    # Undo omega, then phi, then kappa, one axis at a time.
    y1, z1 = dy * math.cos(omega) + dz * math.sin(omega), -dy * math.sin(omega) + dz * math.cos(omega)
    x2, z2 = dx * math.cos(phi) - z1 * math.sin(phi), dx * math.sin(phi) + z1 * math.cos(phi)
    x3, y3 = x2 * math.cos(kappa) + y1 * math.sin(kappa), -x2 * math.sin(kappa) + y1 * math.cos(kappa)
    u, w = x3 / -z2, -y3 / -z2
    r2 = u * u + w * w
    radial = 1 + camera["k1"] * r2 + camera["k2"] * r2**2 + camera["k3"] * r2**3
    ud = u * radial + camera["p1"] * (r2 + 2 * u * u) + 2 * camera["p2"] * u * w
    wd = w * radial + camera["p2"] * (r2 + 2 * w * w) + 2 * camera["p1"] * u * w
    return (
        camera["width"] / 2 + camera["x0"] + camera["c"] * ((1 + camera["b1"]) * ud + camera["b2"] * wd),
        camera["height"] / 2 + camera["y0"] + camera["c"] * wd,
    )


class Surface:
    """truth/surface.tif: height, number of good photos, cover class."""

    def __init__(self, path):
        data = gdal.Open(str(path))
        self.west, self.cell, _, self.north, _, _ = data.GetGeoTransform()
        self.height, self.seen, self.cover = (data.GetRasterBand(b).ReadAsArray().astype(float) for b in (1, 2, 3))
        gy, gx = np.gradient(self.height, self.cell)
        self.slope = np.degrees(np.arctan(np.hypot(gx, gy)))

    def coverable(self, size):
        """Which cells of that size should hold points: three good photos see them, no water, not steeper than 75
        degrees. And the cover class of each."""
        columns, rows = (int(n * self.cell / size) for n in (self.height.shape[1], self.height.shape[0]))
        i = ((np.arange(columns) + 0.5) * size / self.cell).astype(int)
        j = ((np.arange(rows) + 0.5) * size / self.cell).astype(int)
        at = np.ix_(j, i)
        return (self.seen[at] >= 3) & (self.cover[at] != 6) & (self.slope[at] < 75), self.cover[at]

    def at(self, east, north):
        """Bilinear height; NaN outside."""
        c = (east - self.west) / self.cell - 0.5
        r = (self.north - north) / self.cell - 0.5
        i, j = np.floor(c).astype(int), np.floor(r).astype(int)
        rows, columns = self.height.shape
        good = (i >= 0) & (j >= 0) & (i < columns - 1) & (j < rows - 1)
        i, j = np.where(good, i, 0), np.where(good, j, 0)
        tx, ty = c - i, r - j
        z = self.height
        value = (z[j, i] * (1 - tx) + z[j, i + 1] * tx) * (1 - ty) + (z[j + 1, i] * (1 - tx) + z[j + 1, i + 1] * tx) * ty
        return np.where(good, value, np.nan)
