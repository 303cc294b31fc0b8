// SPDX-License-Identifier: GPL-3.0-or-later
// The rows of a joint: scalar constraints C = 0 with their Jacobians, at most six a node.
//
// A row's velocity is J v = [la, aa, lb, ab] . [va, wa, vb, wb] = dC/dt. Linear rows are in metres, angular in radians.
#pragma once

#include <vector>

#include "engine/math/types.h"

namespace calm {

struct Body;

constexpr int kMaxRows = 6;
constexpr int kRowWidth = 12;

// The rate dC/dt of a row at the bodies' velocities and spins.
inline double rowVelocity(const double* j, const Vec3& va, const Vec3& wa, const Vec3& vb, const Vec3& wb) {
  double s = 0;
  for (int i = 0; i < 3; ++i) s += j[i] * va[i] + j[3 + i] * wa[i] + j[6 + i] * vb[i] + j[9 + i] * wb[i];
  return s;
}

// A view of where a node's rows are kept, with the few forms from which all joint types are written. Linear rows come
// first.
class RowBlock {
 public:
  // Doubles that `rows` rows take, `angular` of them angular.
  static int storage(int rows, int angular) { return rows * (1 + kRowWidth) + 6 + 6 * angular; }

  RowBlock(double* memory, int rows)
      : error_(memory),
        arms_(memory + rows),
        jacobian_(memory + rows + 6),
        pairs_(memory + rows * (1 + kRowWidth) + 6) {}

  const double* error() const { return error_; }
  const double* jacobian() const { return jacobian_; }
  Eigen::Map<const Vec3> armA() const { return Eigen::Map<const Vec3>(arms_); }
  Eigen::Map<const Vec3> armB() const { return Eigen::Map<const Vec3>(arms_ + 3); }
  // The vectors that the i-th angular row keeps perpendicular: u of a, w of b.
  Eigen::Map<const Vec3> u(int i) const { return Eigen::Map<const Vec3>(pairs_ + 6 * i); }
  Eigen::Map<const Vec3> w(int i) const { return Eigen::Map<const Vec3>(pairs_ + 6 * i + 3); }
  int linear() const { return linear_; }

  // Of a row that other bodies take part in (a rope over them): all bodies, and where the row's Jacobian by those goes,
  // six numbers each. No place: not asked for.
  struct Riders {
    const std::vector<Body>* bodies = nullptr;
    double* jacobian = nullptr;
  } riders;

  // Where the linear rows pull, from each centre of mass (world). To be called before the rows are written.
  void meetAt(const Vec3& a, const Vec3& b) {
    Eigen::Map<Vec3>{arms_} = a;
    Eigen::Map<Vec3>{arms_ + 3} = b;
  }

  // The points coincide: three rows along the world's axes, C = pb - pa.
  void coincide(const Vec3& gap) {
    const double ax = arms_[0], ay = arms_[1], az = arms_[2], bx = arms_[3], by = arms_[4], bz = arms_[5];
    const double rows[3][kRowWidth] = {{-1, 0, 0, 0, -az, ay, 1, 0, 0, 0, bz, -by},
                                       {0, -1, 0, az, 0, -ax, 0, 1, 0, -bz, 0, bx},
                                       {0, 0, -1, -ay, ax, 0, 0, 0, 1, by, -bx, 0}};
    double* j = jacobian_ + kRowWidth * count_;
    for (int i = 0; i < 3; ++i) {
      error_[count_ + i] = gap[i];
      for (int k = 0; k < kRowWidth; ++k) *j++ = rows[i][k];
    }
    count_ += 3;
    linear_ += 3;
  }

  // C = n . (pb - pa), with n fixed in the world or, when armA reaches to pb, in a.
  void along(const Vec3& n, double c) {
    const Vec3 aa = armA().cross(n), ab = armB().cross(n);
    write(c, -n, -aa, n, ab);
    ++linear_;
  }

  // C = ua . wb, ua fixed in a and wb in b.
  void perpendicular(const Vec3& ua, const Vec3& wb) {
    double* pair = pairs_ + 6 * (count_ - linear_);
    Eigen::Map<Vec3>{pair} = ua;
    Eigen::Map<Vec3>{pair + 3} = wb;
    const Vec3 c = wb.cross(ua);
    write(ua.dot(wb), Vec3::Zero(), -c, Vec3::Zero(), c);
  }

  // C is an angle that grows as b turns against a about the unit vector `axis`.
  void turn(const Vec3& axis, double c) { write(c, Vec3::Zero(), -axis, Vec3::Zero(), axis); }

  // Any row; la to ab are dC by the velocities and spins of a and b.
  void general(bool isLinear, double c, const Vec3& la, const Vec3& aa, const Vec3& lb, const Vec3& ab) {
    write(c, la, aa, lb, ab);
    linear_ += isLinear;
  }

 private:
  void write(double c, const Vec3& la, const Vec3& aa, const Vec3& lb, const Vec3& ab) {
    error_[count_] = c;
    double* j = jacobian_ + kRowWidth * count_;
    for (int i = 0; i < 3; ++i) j[i] = la[i], j[3 + i] = aa[i], j[6 + i] = lb[i], j[9 + i] = ab[i];
    ++count_;
  }

  double* error_;
  double* arms_;
  double* jacobian_;
  double* pairs_;
  int count_ = 0;
  int linear_ = 0;
};

}  // namespace calm
