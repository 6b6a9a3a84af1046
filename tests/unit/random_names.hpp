#pragma once

#include <mesograph/base/random.hpp>
#include <string>

/// A name as somebody may give it to a point or a photo: any UTF-8 but the byte 0, 1 to 250 bytes, rich in what tables
/// are cut by.
inline std::string random_name(mesograph::Random& random) {
  static const std::string signs = ",;\t|\"'#%/ \n\r=@:.*\\";
  const std::size_t most = 1 + random.below(random.below(4) == 0 ? 250 : 12);
  std::string out;
  for (;;) {
    std::string letter;
    const auto put = [&](unsigned v) { letter += static_cast<char>(v); };
    switch (random.below(4)) {
      case 0:
        letter = signs[random.below(signs.size())];
        break;
      case 1:
        put(static_cast<unsigned>(33 + random.below(94)));
        break;
      case 2: {  // U+00A1 to U+07FF
        const auto c = static_cast<unsigned>(0xA1 + random.below(0x75F));
        put(0xC0 | c >> 6), put(0x80 | (c & 63));
        break;
      }
      default: {  // U+10000 and above
        const auto c = static_cast<unsigned>(0x10000 + random.below(0x10000));
        put(0xF0 | c >> 18), put(0x80 | (c >> 12 & 63)), put(0x80 | (c >> 6 & 63)), put(0x80 | (c & 63));
      }
    }
    if (out.size() + letter.size() > most && !out.empty()) return out;
    out += letter;
    if (out.size() >= most) return out;
  }
}
