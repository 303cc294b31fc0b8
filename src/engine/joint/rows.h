// SPDX-License-Identifier: GPL-3.0-or-later
// The rows of a joint: scalar constraints C = 0 with their Jacobians, at most six a node.
//
// A row's velocity is J v = [la, aa, lb, ab] . [va, wa, vb, wb] = dC/dt. Linear rows are in metres, angular in radians.
#pragma once

#include <array>
#include <vector>

#include "engine/math/lanes.h"
#include "engine/math/types.h"

namespace calm {

struct Body;

constexpr int kMaxRows = 6;
constexpr int kRowWidth = 12;

// Velocities and spins of two bodies as rows take them.
using RowMotion = PairRow<kRowWidth / 2>;
inline RowMotion rowMotion(const Vec3& va, const Vec3& wa, const Vec3& vb, const Vec3& wb) {
  return {loadPair(&va[0]), Pair{va[2], wa[0]}, loadPair(&wa[1]),
          loadPair(&vb[0]), Pair{vb[2], wb[0]}, loadPair(&wb[1])};
}

// The rate dC/dt of a row.
inline double rowVelocity(const double* j, const RowMotion& motion) {
  return dot(motion, j);
}

// How many rows are kept in short: those of a pivot (3 or 0), those along directions, and those that only turn.
struct ShortRows {
  int pivot = 0, along = 0, turning = 0;
  constexpr int all() const { return pivot + along + turning; }
};

// A view of where a node's rows are kept, with the few forms from which all joint types are written. Linear rows come
// first; of them, the three of a pivot, whose Jacobians are known from its arms and not kept, then such as pull where
// the arms end, of which only the direction is. The last ones may be such as only turn the bodies, as much one way as
// the other: of those, one's turning is kept.
class RowBlock {
 public:
  // Doubles that `rows` rows take, of which `pairs` are those of perpendicular vectors.
  static constexpr int storage(int rows, int pairs, const ShortRows& s = {}) {
    return rows + 6 + 3 * (s.along + s.turning) + kRowWidth * (rows - s.all()) + 6 * pairs;
  }

  RowBlock(double* memory, int rows, const ShortRows& s = {})
      : error_(memory),
        arms_(memory + rows),
        vectors_(memory + rows + 6),
        jacobian_(vectors_ + 3 * (s.along + s.turning)),
        pairs_(jacobian_ + kRowWidth * (rows - s.all())),
        pivot_(s.pivot),
        firstWhole_(s.pivot + s.along),
        firstTurning_(rows - s.turning) {}

  const double* error() const { return error_; }
  // Of the rows that are not kept in short, kRowWidth numbers each.
  const double* jacobian() const { return jacobian_; }
  // Of a row along a direction, that; of one that only turns, by the spin of b, which is against that of a.
  const double* vector(int r) const { return place(r); }
  // Of any row.
  Eigen::Matrix<double, kRowWidth, 1> fullRow(int r) const {
    Eigen::Matrix<double, kRowWidth, 1> row;
    if (r < firstWhole_) {
      const Vec3 along = r < pivot_ ? Vec3(Vec3::Unit(r)) : Vec3(Eigen::Map<const Vec3>(vector(r)));
      row << -along, -armA().cross(along), along, armB().cross(along);
    } else if (r < firstTurning_) {
      row = Eigen::Map<const Eigen::Matrix<double, kRowWidth, 1>>(jacobian_ + kRowWidth * (r - firstWhole_));
    } else {
      const Eigen::Map<const Vec3> turn(vector(r));
      row << Vec3::Zero(), -turn, Vec3::Zero(), turn;
    }
    return row;
  }
  Eigen::Map<const Vec3> armA() const { return Eigen::Map<const Vec3>(arms_); }
  Eigen::Map<const Vec3> armB() const { return Eigen::Map<const Vec3>(arms_ + 3); }
  const double* arm(int side) const { return arms_ + 3 * side; }
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

  // The pivots coincide: three rows along the world's axes, C = pb - pa.
  void coincide(const Vec3& gap) {
    if (pivot_ == 0) {  // to be kept as any along directions are
      for (int i = 0; i < 3; ++i) along(Vec3::Unit(i), gap[i]);
      return;
    }
    for (int i = 0; i < 3; ++i) error_[i] = gap[i];
    count_ = linear_ = 3;
  }

  // C = n . (pb - pa), with n fixed in the world or, when armA reaches to pb, in a.
  void along(const Vec3& n, double c) {
    if (count_ < firstWhole_)
      writeShort(c, n);
    else
      write(c, -n, -armA().cross(n), n, armB().cross(n));
    ++linear_;
  }

  // C = ua . wb, ua fixed in a and wb in b.
  void perpendicular(const Vec3& ua, const Vec3& wb) {
    double* pair = pairs_ + 6 * (count_ - linear_);
    Eigen::Map<Vec3>{pair} = ua;
    Eigen::Map<Vec3>{pair + 3} = wb;
    turn(wb.cross(ua), ua.dot(wb));
  }

  // C is an angle that grows as b turns against a about the unit vector `axis`.
  void turn(const Vec3& axis, double c) {
    if (count_ < firstTurning_)
      write(c, Vec3::Zero(), -axis, Vec3::Zero(), axis);
    else
      writeShort(c, axis);
  }

  // Any row; la to ab are dC by the velocities and spins of a and b.
  void general(bool isLinear, double c, const Vec3& la, const Vec3& aa, const Vec3& lb, const Vec3& ab) {
    write(c, la, aa, lb, ab);
    linear_ += isLinear;
  }

 private:
  double* place(int r) const {
    return vectors_ + 3 * (r < firstTurning_ ? r - pivot_ : r - pivot_ - (firstTurning_ - firstWhole_));
  }
  void writeShort(double c, const Vec3& vector) {
    for (int i = 0; i < 3; ++i) place(count_)[i] = vector[i];
    error_[count_++] = c;
  }
  void write(double c, const Vec3& la, const Vec3& aa, const Vec3& lb, const Vec3& ab) {
    error_[count_] = c;
    double* j = jacobian_ + kRowWidth * (count_ - firstWhole_);
    for (int i = 0; i < 3; ++i) j[i] = la[i], j[3 + i] = aa[i], j[6 + i] = lb[i], j[9 + i] = ab[i];
    ++count_;
  }

  double* error_;
  double* arms_;
  double* vectors_;
  double* jacobian_;
  double* pairs_;
  int pivot_, firstWhole_, firstTurning_;
  int count_ = 0;
  int linear_ = 0;
};

}  // namespace calm
