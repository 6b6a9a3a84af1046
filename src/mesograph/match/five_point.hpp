#pragma once

#include <Eigen/Core>
#include <vector>

namespace mesograph::match {

/// Essential matrices E with b^T E a = 0 for five pairs of rays (columns of a and b, any length), up to ten; |E| = 1.
/// Degenerate five (repeated rays) give an empty or useless list: judge by the other matches.
/// Source: Nister (2004), An efficient solution to the five-point relative pose problem, PAMI 26; solved by the action
/// matrix of Stewenius, Engels & Nister (2006), ISPRS J. 60.
/// Accuracy: exact rays give E to 1e-4 in 98 of 100 cases; a double root loses half the digits. Cost: an elimination
/// and an eigenvalue problem of order ten.
std::vector<Eigen::Matrix3d> five_point(const Eigen::Matrix<double, 3, 5>& a, const Eigen::Matrix<double, 3, 5>& b);

}  // namespace mesograph::match
