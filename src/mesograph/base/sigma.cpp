#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/sigma.hpp>

namespace mesograph {

void check_sigma(double sigma, double least, const char* unit, const std::string& where, const std::string& what) {
  if (std::isnan(sigma) || sigma >= least) return;
  if (!(sigma > 0)) throw Error("{}: a sigma of {} is not greater than 0; correct it or leave it empty", where, what);
  throw Error("{}: a sigma of {} is {:g} {}, and the least that makes sense is {:f} {}; write that for what is fixed",
              where, what, sigma, unit, least, unit);
}

}  // namespace mesograph
