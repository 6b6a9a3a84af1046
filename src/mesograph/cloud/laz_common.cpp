#include <mesograph/cloud/laz_common.hpp>

namespace mesograph::cloud {

void RunningMedian::add(std::int32_t v) {
  auto& m = values;
  if (high) {
    if (v < m[2]) {
      m[4] = m[3], m[3] = m[2];
      if (v < m[0])
        m[2] = m[1], m[1] = m[0], m[0] = v;
      else if (v < m[1])
        m[2] = m[1], m[1] = v;
      else
        m[2] = v;
    } else {
      if (v < m[3])
        m[4] = m[3], m[3] = v;
      else
        m[4] = v;
      high = false;
    }
  } else if (m[2] < v) {
    m[0] = m[1], m[1] = m[2];
    if (m[4] < v)
      m[2] = m[3], m[3] = m[4], m[4] = v;
    else if (m[3] < v)
      m[2] = m[3], m[3] = v;
    else
      m[2] = v;
  } else {
    if (m[1] < v)
      m[0] = m[1], m[1] = v;
    else
      m[0] = v;
    high = true;
  }
}

}  // namespace mesograph::cloud
