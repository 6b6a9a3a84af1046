"""A reader of compressed LAS 1.4 (point formats 6 to 8) for tests: plain and slow, after the open specification, with exact
integers. It shares no code with the program, whose reader and writer are one text: what both would get wrong alike shows
here."""
import struct

LEAST = 1 << 24


class Model:
    """Shares of symbols, of 2^15; the search for a symbol is a plain walk."""

    def __init__(self, symbols):
        self.counts, self.total, self.cycle = [1] * symbols, 0, symbols
        self.update()
        self.cycle = self.left = (symbols + 6) // 2

    def update(self):
        self.total += self.cycle
        if self.total > 1 << 15:
            self.counts = [(n + 1) // 2 for n in self.counts]
            self.total = sum(self.counts)
        scale, below, self.below = (1 << 31) // self.total, 0, []
        for n in self.counts:
            self.below.append(scale * below >> 16)
            below += n
        self.cycle = self.left = min(5 * self.cycle // 4, 8 * (len(self.counts) + 6))

    def count(self, symbol):
        self.counts[symbol] += 1
        self.left -= 1
        if self.left == 0:
            self.update()


class Bit:
    """Share of zeros, of 2^13."""

    def __init__(self):
        self.zeros, self.total, self.share, self.cycle, self.left = 1, 2, 1 << 12, 4, 4

    def count(self, one):
        self.zeros += 0 if one else 1
        self.left -= 1
        if self.left:
            return
        self.total += self.cycle
        if self.total > 1 << 13:
            self.total, self.zeros = (self.total + 1) // 2, (self.zeros + 1) // 2
            self.total += self.zeros == self.total
        self.share = self.zeros * ((1 << 31) // self.total) >> 18
        self.cycle = self.left = min(5 * self.cycle // 4, 64)


class Stream:
    """An interval of numbers that narrows with each symbol."""

    def __init__(self, data):
        self.data, self.at, self.length = data, 4, (1 << 32) - 1
        self.value = int.from_bytes(data[:4], "big")

    def settle(self):
        while self.length < LEAST:
            self.value = self.value << 8 | (self.data[self.at] if self.at < len(self.data) else 0)
            self.at, self.length = self.at + 1, self.length << 8

    def symbol(self, model):
        unit = self.length >> 15
        symbol = max(s for s, share in enumerate(model.below) if share * unit <= self.value)
        low = model.below[symbol] * unit
        high = self.length if symbol == len(model.below) - 1 else model.below[symbol + 1] * unit
        self.value, self.length = self.value - low, high - low
        self.settle()
        model.count(symbol)
        return symbol

    def bit(self, model):
        zero = model.share * (self.length >> 13)
        one = self.value >= zero
        self.value, self.length = (self.value - zero, self.length - zero) if one else (self.value, zero)
        self.settle()
        model.count(one)
        return int(one)

    def bits(self, n):
        if n > 19:
            low = self.bits(16)
            return low | self.bits(n - 16) << 16
        self.length >>= n
        out, self.value = divmod(self.value, self.length)
        self.settle()
        return out


class Numbers:
    """Differences from a guess: their size in bits first."""

    def __init__(self, bits, contexts):
        self.width, self.k = bits, 0
        self.sizes = [Model(bits + 1) for _ in range(contexts)]
        self.within = [None] + [Model(1 << min(k, 8)) for k in range(1, bits + 1)]
        self.one = Bit()

    def difference(self, stream, context):
        k = self.k = stream.symbol(self.sizes[context])
        if k == 0:
            return stream.bit(self.one)
        if k == 32:
            return -(1 << 31)
        c = stream.symbol(self.within[k])
        if k > 8:
            c = c << (k - 8) | stream.bits(k - 8)
        return c + 1 if c >= 1 << (k - 1) else c - (1 << k) + 1

    def read(self, stream, guess, context, signed=True):
        value = (guess + self.difference(stream, context)) % (1 << self.width)
        return value - (1 << self.width) if signed and value >= 1 << (self.width - 1) else value


def steady(values, high, v):
    """The running median of five: a new value pushes out the largest or the least, by turns; whose turn is next."""
    if high:
        turn = v < values[2]
        values[:] = sorted(values[:4] + [v]) if turn else values[:3] + sorted([values[3], v])
        return turn
    turn = v <= values[2]
    values[:] = sorted([values[0], values[1], v][1:]) + values[2:] if turn else sorted(values[1:] + [v])
    return turn


class Times:
    """GPS times as whole numbers (their bits): up to four sequences, each with its usual step. `still`: whether a time that
    stays has a symbol of its own, as where points are coded one by one."""

    def __init__(self, first, still):
        self.still, self.seen, self.step, self.odd = int(still), [first, 0, 0, 0], [0] * 4, [0] * 4
        self.now = self.newest = 0
        self.standing, self.moving, self.numbers = Model(5 + self.still), Model(515 + self.still), Numbers(32, 9)

    def read(self, stream):
        usual = self.step[self.now]
        if usual == 0:
            s = stream.symbol(self.standing) - self.still
            if s == -1:
                return self.seen[self.now]
            if s == 0:
                self.step[self.now] = self.numbers.read(stream, 0, 0)
                self.odd[self.now] = 0
                return self.arrive(self.step[self.now])
            return self.elsewhere(stream, s - 1)
        s = stream.symbol(self.moving)
        if s == 511 and self.still:
            return self.seen[self.now]
        if s > 510:
            return self.elsewhere(stream, s - 511 - self.still)
        times = s if s <= 500 else 500 - s
        kind = 7 if times == 0 else 1 if times == 1 else 2 if 0 < times < 10 else 3 if 0 < times < 500 else 4 if times == 500 else 5 if times > -10 else 6
        wrapped = (times * usual + (1 << 31)) % (1 << 32) - (1 << 31)
        step = self.numbers.read(stream, wrapped, kind)
        if kind == 1:
            self.odd[self.now] = 0
        if kind in (4, 6, 7):
            self.odd[self.now] += 1
            if self.odd[self.now] > 3:
                self.step[self.now], self.odd[self.now] = step, 0
        return self.arrive(step)

    def arrive(self, step):
        self.seen[self.now] = (self.seen[self.now] + step + (1 << 63)) % (1 << 64) - (1 << 63)
        return self.seen[self.now]

    def elsewhere(self, stream, other):
        """Another of the four sequences, or where there is none that leads there a new one."""
        if other > 0:
            self.now = (self.now + other) % 4
            return self.read(stream)
        upper = self.numbers.read(stream, self.seen[self.now] >> 32, 8)
        lower = stream.bits(16) | stream.bits(16) << 16
        self.now = self.newest = (self.newest + 1) % 4
        self.seen[self.now], self.step[self.now], self.odd[self.now] = upper << 32 | lower, 0, 0
        return self.seen[self.now]


def chunk(data, n, layout, length):
    """Records of one chunk: single returns and one scanner channel."""
    first, fixed = bytearray(data[:length]), {6: 30, 7: 36, 8: 38}[layout]
    layers = 9 + (layout >= 7) + (layout == 8) + length - fixed
    assert struct.unpack_from("<I", data, length)[0] == n
    sizes = struct.unpack_from(f"<{layers}I", data, length + 4)
    at, streams = length + 4 + 4 * layers, []
    for size in sizes:
        streams.append(Stream(data[at : at + size]) if size else None)
        at += size
    assert at == len(data), "a chunk's layers fill it"
    plan, height, kinds, flags, intensity, angle, user, source, time = streams[:9]
    assert angle is None and source is None and first[14] == 1 | 1 << 4
    times, moved = Times(struct.unpack_from("<q", first, 22)[0], False), False
    changed, x, y, z = [Model(128) for _ in range(8)], Numbers(32, 2), Numbers(32, 22), Numbers(32, 20)
    bright, lights = Numbers(16, 4), [struct.unpack_from("<H", first, 12)[0]] * 2  # of points whose time stands and moves
    dx, dy, turns = [[0] * 5, [0] * 5], [[0] * 5, [0] * 5], [[True, True], [True, True]]
    of_kind, of_flags, of_user = {}, {}, {}
    parts, which = [Model(256) for _ in range(6)], Model(128)
    near, near_which = [Model(256), Model(256)], Model(4)
    more = [Model(256) for _ in range(length - fixed)]
    clamp = lambda v: min(255, max(0, v))
    records = [bytes(first)]
    for _ in range(n - 1):
        r = bytearray(records[-1])
        what = plan.symbol(changed[7 if moved else 3])  # first of one return; whether the time has just moved
        moved = what == 16
        assert what in (0, 16)
        if moved and time:
            struct.pack_into("<q", r, 22, times.read(time))
        east, north, up = struct.unpack_from("<3i", r)
        step = x.read(plan, dx[moved][2], 1)
        turns[moved][0] = steady(dx[moved], turns[moved][0], step)
        by_x = min(x.k & ~1, 20)
        other = y.read(plan, dy[moved][2], 1 + by_x)
        turns[moved][1] = steady(dy[moved], turns[moved][1], other)
        k = (x.k + y.k) // 2
        up = z.read(height, up, 1 + (k & ~1 if k < 18 else 18))
        struct.pack_into("<3i", r, 0, east + step, north + other, up)
        if kinds:
            r[16] = kinds.symbol(of_kind.setdefault((r[16] & 31, 1), Model(256)))
        if flags:
            f = (r[15] & 15) | r[15] >> 6 << 4
            f = flags.symbol(of_flags.setdefault(f, Model(64)))
            r[15] = (f & 15) | f >> 4 << 6
        if intensity:
            lights[moved] = bright.read(intensity, lights[moved], 3, False)
            struct.pack_into("<H", r, 12, lights[moved])
        if user:
            r[17] = user.symbol(of_user.setdefault(r[17] // 4, Model(256)))
        if layout >= 7 and streams[9]:
            colour(r, streams[9], which, parts, clamp)
        if layout == 8 and streams[10]:
            s = streams[10].symbol(near_which)
            for half in (0, 1):
                if s >> half & 1:
                    r[36 + half] = (r[36 + half] + streams[10].symbol(near[half])) % 256
        for i, model in enumerate(more):
            if streams[layers - len(more) + i]:
                r[fixed + i] = (r[fixed + i] + streams[layers - len(more) + i].symbol(model)) % 256
        records.append(bytes(r))
    return records


def colour(r, stream, which, parts, clamp, at=30):
    """Red, green, blue from byte `at` of a record that still holds the last one's."""
    last, s = r[at : at + 6], stream.symbol(which)
    for half in (0, 1):
        if s >> half & 1:
            r[at + half] = (last[half] + stream.symbol(parts[half])) % 256
    for half in (0, 1):
        if not s & 64:
            r[at + 2 + half] = r[at + 4 + half] = r[at + half]
            continue
        step = r[at + half] - last[half]
        if s >> (2 + half) & 1:
            r[at + 2 + half] = (clamp(step + last[2 + half]) + stream.symbol(parts[2 + half])) % 256
        step = int((step + r[at + 2 + half] - last[2 + half]) / 2)  # towards nought
        if s >> (4 + half) & 1:
            r[at + 4 + half] = (clamp(step + last[4 + half]) + stream.symbol(parts[4 + half])) % 256


# Kinds of returns of the older formats: by the number of returns (row) and which of them (column).
KINDS = [
    [15, 14, 13, 12, 11, 10, 9, 8],
    [14, 0, 1, 3, 6, 10, 10, 9],
    [13, 1, 2, 4, 7, 11, 11, 10],
    [12, 3, 4, 5, 8, 12, 12, 11],
    [11, 6, 7, 8, 9, 13, 13, 12],
    [10, 10, 11, 12, 13, 14, 14, 13],
    [9, 10, 11, 12, 13, 14, 15, 14],
    [8, 9, 10, 11, 12, 13, 14, 15],
]


def old_chunk(data, n, layout, length):
    """Records of one chunk of formats 0 to 3, coded point by point."""
    fixed, stream = {0: 20, 1: 28, 2: 26, 3: 34}[layout], Stream(data[length:])
    records, changed, bits, classes, users = [data[:length]], Model(64), {}, {}, {}
    bright, source, angles = Numbers(16, 4), Numbers(16, 1), [Model(256), Model(256)]
    x, y, z = Numbers(32, 2), Numbers(32, 22), Numbers(32, 20)
    dx, dy = [[0] * 5 for _ in range(16)], [[0] * 5 for _ in range(16)]
    turn_x, turn_y, lights, heights = [True] * 16, [True] * 16, [0] * 16, [0] * 8
    times = Times(struct.unpack_from("<q", data, 20)[0], True) if layout in (1, 3) else None
    parts, which = [Model(256) for _ in range(6)], Model(128)
    more = [Model(256) for _ in range(length - fixed)]
    for _ in range(n - 1):
        r = bytearray(records[-1])
        what = stream.symbol(changed)
        if what & 32:
            r[14] = stream.symbol(bits.setdefault(r[14], Model(256)))
        number, returns = r[14] & 7, r[14] >> 3 & 7
        kind, level, single = KINDS[returns][number], abs(returns - number), int(returns == 1)
        if what & 16:
            lights[kind] = bright.read(stream, lights[kind], min(kind, 3), False)
        struct.pack_into("<H", r, 12, lights[kind])
        if what & 8:
            r[15] = stream.symbol(classes.setdefault(r[15], Model(256)))
        if what & 4:
            r[16] = (r[16] + stream.symbol(angles[r[14] >> 6 & 1])) % 256
        if what & 2:
            r[17] = stream.symbol(users.setdefault(r[17], Model(256)))
        if what & 1:
            struct.pack_into("<H", r, 18, source.read(stream, struct.unpack_from("<H", r, 18)[0], 0, False))
        east, north = struct.unpack_from("<2i", r)
        step = x.read(stream, dx[kind][2], single)
        turn_x[kind] = steady(dx[kind], turn_x[kind], step)
        other = y.read(stream, dy[kind][2], single + (x.k & ~1 if x.k < 20 else 20))
        turn_y[kind] = steady(dy[kind], turn_y[kind], other)
        k = (x.k + y.k) // 2
        heights[level] = z.read(stream, heights[level], single + (k & ~1 if k < 18 else 18))
        struct.pack_into("<3i", r, 0, east + step, north + other, heights[level])
        if times:
            struct.pack_into("<q", r, 20, times.read(stream))
        if layout in (2, 3):
            colour(r, stream, which, parts, lambda v: min(255, max(0, v)), {2: 20, 3: 28}[layout])
        for i, model in enumerate(more):
            r[fixed + i] = (r[fixed + i] + stream.symbol(model)) % 256
        records.append(bytes(r))
    return records


def read_laz(path):
    """Records of a file, and the bytes of each chunk by its table."""
    data = path.read_bytes()
    start, records = struct.unpack_from("<II", data, 96)
    layout, length = data[104] & 63, struct.unpack_from("<H", data, 105)[0]
    old = layout < 6
    count, position, compressor = struct.unpack_from(*(("<I", data, 107) if old else ("<Q", data, 247)))[0], struct.unpack_from("<H", data, 94)[0], None
    for _ in range(records):
        user, number, size = struct.unpack_from("<16sHH", data, position + 2)
        if user.rstrip(b"\0") == b"laszip encoded" and number == 22204:
            compressor = data[position + 54 : position + 54 + size]
        position += 54 + size
    assert data[104] & 128 and position == start and struct.unpack_from("<HH", compressor) == (2 if old else 3, 0)
    per_chunk, table = struct.unpack_from("<I", compressor, 12)[0], struct.unpack_from("<q", data, start)[0]
    version, chunks = struct.unpack_from("<II", data, table)
    assert version == 0 and chunks == -(-count // per_chunk)
    stream, sizes, size, at, out = Stream(data[table + 8 :]), Numbers(32, 2), 0, start + 8, []
    for k in range(chunks):
        size = sizes.read(stream, size, 1)
        out += (old_chunk if old else chunk)(data[at : at + size], min(per_chunk, count - k * per_chunk), layout, length)
        at += size
    assert at == table, "chunks end where their table begins"
    return out


class Octree:
    """A cloud in the order of COPC 1.0, by the offsets of its specification: its cube, its nodes, the points of one."""

    def __init__(self, path, fetch=None):
        """`fetch`: bytes of the file from a place on, so many of them; by default the file itself is read."""
        whole = b"" if fetch else path.read_bytes()
        self.fetch = fetch or (lambda at, n: whole[at : at + n])
        self.data = self.fetch(0, 589)
        user, number, size = struct.unpack_from("<16sHH", self.data, 375 + 2)
        assert (user.rstrip(b"\0"), number, size) == (b"copc", 1, 160), "the first record of all says where the octree is"
        info = 375 + 54
        *self.centre, self.half, self.spacing = struct.unpack_from("<5d", self.data, info)
        self.times = struct.unpack_from("<2d", self.data, info + 56)
        assert not any(self.data[info + 72 : info + 160]), "what is reserved is nought"
        self.layout, self.length = self.data[104] & 63, struct.unpack_from("<H", self.data, 105)[0]
        self.nodes, self.pages = {}, 0
        self._page(*struct.unpack_from("<2Q", self.data, info + 40))

    def _page(self, at, size):
        self.pages += 1
        page = self.fetch(at, size)
        for k in range(0, size, 32):
            *key, place, length, points = struct.unpack_from("<4iQ2i", page, k)
            if points == -1:
                self._page(place, length)
            else:
                assert tuple(key) not in self.nodes and points > 0, "each node stands once"
                self.nodes[tuple(key)] = (place, length, points)

    def records(self, key):
        place, length, points = self.nodes[key]
        return chunk(self.fetch(place, length), points, self.layout, self.length)

    def cube(self, key):
        """Lowest corner and side of a node."""
        side = 2 * self.half / 2 ** key[0]
        return [c - self.half + side * k for c, k in zip(self.centre, key[1:])], side

    def parents_are_there(self):
        return all(key[0] == 0 or (key[0] - 1, *(k // 2 for k in key[1:])) in self.nodes for key in self.nodes)

    def chunks_follow(self):
        """Nodes fill the file from its first point to the table of chunks without a gap."""
        start = struct.unpack_from("<I", self.data, 96)[0]
        table, at = struct.unpack("<q", self.fetch(start, 8))[0], start + 8
        for place, length, _ in sorted(self.nodes.values()):
            if place != at:
                return False
            at += length
        return at == table
