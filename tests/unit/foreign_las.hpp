#pragma once

#include <cstdint>
#include <cstring>
#include <string>
#include <vector>

/// A LAS 1.2 file of format 3 as other programs write it, byte by byte by the standard's table 3 of that time: 227
/// bytes of header, GeoTIFF keys, an unknown record, legacy counts, colours of eight bits in sixteen, class 5 with a
/// flag.
inline std::string foreign_las(int n) {
  std::string b(227, '\0');
  const auto set = [&](std::size_t offset, auto value) { std::memcpy(b.data() + offset, &value, sizeof value); };
  std::memcpy(b.data(), "LASF", 4);
  b[24] = 1, b[25] = 2;
  const std::uint16_t keys[] = {1, 1, 0, 2, 3072, 0, 1, 25833, 4096, 0, 1, 5773};
  const std::string unknown = "four";
  const std::size_t first = 227 + 54 + sizeof keys + 54 + unknown.size();
  set(94, std::uint16_t{227}), set(96, static_cast<std::uint32_t>(first)), set(100, std::uint32_t{2});
  b[104] = 3;
  set(105, std::uint16_t{34}), set(107, static_cast<std::uint32_t>(n)), set(111, static_cast<std::uint32_t>(n));
  for (std::size_t a = 0; a < 3; ++a) set(131 + 8 * a, 0.01), set(155 + 8 * a, a == 2 ? 600.0 : 1000.0);
  const auto record = [&](const char* user, std::uint16_t id, std::string data) {
    std::string head(54, '\0');
    std::memcpy(head.data() + 2, user, std::strlen(user));
    const auto length = static_cast<std::uint16_t>(data.size());
    std::memcpy(head.data() + 18, &id, 2), std::memcpy(head.data() + 20, &length, 2);
    b += head + data;
  };
  record("LASF_Projection", 34735, std::string(reinterpret_cast<const char*>(keys), sizeof keys));
  record("somebody", 77, unknown);
  for (int i = 0; i < n; ++i) {
    std::string p(34, '\0');
    const std::int32_t at[] = {100 * i, 50 * i, 10 * i};
    std::memcpy(p.data(), at, sizeof at);
    p[14] = 1 | 1 << 3, p[15] = static_cast<char>(5 | 1 << 7);
    const std::uint16_t rgb[] = {static_cast<std::uint16_t>(i % 256), 20, 30};
    std::memcpy(p.data() + 28, rgb, sizeof rgb);
    b += p;
  }
  for (std::size_t a = 0; a < 3; ++a) {
    const double step = a == 0 ? 1.0 : a == 1 ? 0.5 : 0.1, offset = a == 2 ? 600.0 : 1000.0;
    std::memcpy(b.data() + 179 + 16 * a, std::vector<double>{offset + step * (n - 1)}.data(), 8);
    std::memcpy(b.data() + 187 + 16 * a, &offset, 8);
  }
  return b;
}
