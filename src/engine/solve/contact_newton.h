// SPDX-License-Identifier: GPL-3.0-or-later
// Contacts of one set solved exactly: Newton's method on what each point does (open, sticking, sliding), with a sparse
// factor over the bodies. Sweeps leave slow modes, such as the swaying of a stack, at their tolerance for good: forces
// that are taken over from step to step feed them. Here nothing is left.
#pragma once

#include <array>
#include <map>
#include <utility>
#include <vector>

#include "engine/solve/block_cholesky.h"
#include "engine/solve/contact_law.h"
#include "engine/solve/contact_patch.h"

namespace calm {

class ContactNewton {
 public:
  struct Terms {
    double softness;                   // of a contact, as a fraction of its mobility
    const std::vector<double>* given;  // where velocities at rest are sought: the points' normal impulses before
    double enough;                     // m/s, change of a contact velocity
  };
  // From the points' impulses and the bodies' velocities. Returns false, and changes nothing, where the set is too
  // large to be worth it, or when it does not settle.
  bool solve(Touches& touches, const ContactSet& set, const Terms& terms, std::vector<Body>& bodies);

 private:
  // All along the directions of the point's patch.
  struct Point {
    int index;
    std::array<Mat3, 2> turning;  // columns: angular impulses on a side's body of unit impulses
    ContactLaw<double> law;
    Vec3 before, slipBefore;  // impulse and slip, to begin with
    Vec3 impulse, slip;       // of the present solution
    Hold hold;
    Eigen::Vector2d rubs;  // friction of what slides
  };
  struct Patch {
    std::array<int, 2> place;  // of each side's body in the order of elimination; -1: it is not dynamic
    int block;                 // between the two, in the factor's storage
    Mat3 directions;
    double friction;
    int first, end;  // points
    int seam;        // as of the patch that it stands for
  };
  // How a side's body moves, along a patch's directions.
  struct Motion {
    Vec3 velocity = Vec3::Zero(), spin = Vec3::Zero();
  };
  using Motions = std::array<Motion, 2>;
  // The factor for bodies that touch in the same way, whichever they are.
  struct Plan {
    std::vector<int> place;  // of each body in the order of elimination
    BlockCholesky factor;
    double work = 0;  // multiplications of one factorisation
  };
  using Edges = std::vector<std::pair<int, int>>;

  Plan& planFor(int count, const Edges& edges);
  bool takeBodies(const Touches& touches, const ContactSet& set, const std::vector<Body>& bodies);
  void takePatch(const Touches& touches, const ContactSet& set, const ContactPatch& from, const Terms& terms,
                 const std::vector<Body>& bodies);
  void build(const std::vector<Body>& bodies);
  void addPatch(const Patch& patch);
  static Vec3 slipOf(const Point& p, const Motions& motions);
  // Returns by how much their laws would change the velocities of the patch's points, m/s.
  double follow(const Patch& patch);
  static double decide(double friction, Point& p);

  std::map<Edges, Plan> plans_;
  Plan* plan_ = nullptr;
  std::vector<int> number_;   // of the bodies at the set's places; -1: not dynamic
  std::vector<int> dynamic_;  // bodies, in the order of elimination
  std::vector<Patch> patches_;
  std::vector<Point> points_;
  std::vector<double> change_;  // of each body's velocity and spin
};

}  // namespace calm
