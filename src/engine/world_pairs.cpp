// SPDX-License-Identifier: GPL-3.0-or-later
// Which shapes may meet within the coming frame.
#include <algorithm>
#include <cmath>
#include <utility>

#include "engine/math/rotation.h"
#include "engine/shape/mesh.h"
#include "engine/world.h"

namespace calm {

namespace {

// Whether a box touches what is below a fixed plane. What moves may come to it.
bool reachesPlane(const Aabb& box, const Collider& plane, const Body& body) {
  if (body.moves()) return true;
  const Vec3 middle = (box.low + box.high) / 2, half = (box.high - box.low) / 2;
  return (middle - plane.planePoint).dot(plane.planeNormal) <= plane.planeNormal.cwiseAbs().dot(half);
}

// How fast any point of a body within `extent` of its centre of mass goes, m/s: now, or within the frame from `time` on
// if it is moved.
double fastestOn(const Body& body, double time, const StepSettings& settings, double extent) {
  double fastest = body.velocity.norm() + body.spin.norm() * extent;
  if (body.role != Role::kinematic || !body.motion) return fastest;
  const double h = settings.frame / settings.substeps;
  Pose before = body.motion->poseAt(time) * body.inPart;
  for (int i = 1; i <= settings.substeps; ++i) {
    const Pose after = body.motion->poseAt(time + i * h) * body.inPart;
    const double turn = chordBetween(after.rotation, before.rotation);
    fastest = std::max(fastest, ((after.position - before.position).norm() + extent * turn) / h);
    before = after;
  }
  return fastest;
}

// How far a box reaches from a point, m; an empty one nowhere.
double extentFrom(const Vec3& point, const Aabb& box) {
  if (box.low.x() > box.high.x()) return 0;
  return (box.high - point).cwiseAbs().cwiseMax((box.low - point).cwiseAbs()).norm();
}

// What is at work on an axis that stands at `at`: with how much (N or N m), and how far it may take it in a time.
struct Drive {
  double effort, until;
};
Drive driveOn(const AxisDef& axis, JointType type, double at, double time) {
  const double stretch = axis.stiffness > 0 ? std::abs(at - axis.target) : 0;
  const double beyond = axis.hasSoftStops() ? std::max({axis.low - at, at - axis.high, 0.0}) : 0;
  const double motor =
      axis.cap > 0 || type == JointType::winch ? std::abs(axis.speed) + std::abs(axis.acceleration) * time : 0;
  return {std::min(axis.stiffness * stretch, axis.springCap) + axis.stopStiffness * beyond + axis.cap,
          2 * (stretch + beyond) + motor * time};
}

// How far two boxes are apart along an axis, m; below zero where they overlap along all.
double apartBy(const Aabb& a, const Aabb& b) {
  return std::max((a.low - b.high).maxCoeff(), (b.low - a.high).maxCoeff());
}

}  // namespace

struct World::NearSearch {
  World& world;
  // How far a shape may get within the frame.
  struct Reach {
    Aabb box;          // grown by `reach`
    double reach = 0;  // m
    double speed = 0;  // of any point, m/s
    double way = 0;    // of any point, m
    bool moving;       // is of a dynamic body
  };
  std::vector<Reach> reaches{};
  std::vector<int> unbounded{};
  std::vector<PairTable::Key> near{};
  double fastest = 0;  // m/s

  int count() const { return static_cast<int>(world.shapes_.size()); }
  const Body& bodyOf(int shape) const { return world.bodies_[world.shapes_[shape].body]; }

  void takeShapes();
  std::vector<Hastening> hasteningsOfAssemblies() const;
  // How fast what acts on a body from outside but gravity makes its points gather speed at most, m/s^2.
  double pushOn(BodyId id, double extent) const;
  void placeLeaves();
  // Notes whom a shape may meet: those after it, or with `all` also those before.
  void findNear(int shape, bool all);
  void strike(int from, int to);
};

void World::refreshPairs() {
  NearSearch search{*this};
  search.takeShapes();
  search.placeLeaves();
  for (int i = 0; i < search.count(); ++i)
    if (search.reaches[i].moving) search.findNear(i, false);
  std::vector<PairTable::Key>& near = search.near;
  // More are found on the way. In an order that does not depend on how the tree has grown.
  for (std::size_t k = 0, found = 0; k < near.size(); ++k) {
    if (k == found) {
      std::sort(near.begin() + static_cast<std::ptrdiff_t>(found), near.end());
      found = near.size();
    }
    const PairTable::Key key = near[k];
    search.strike(key[0], key[1]);
    search.strike(key[1], key[0]);
  }
  std::sort(near.begin(), near.end());
  near.erase(std::unique(near.begin(), near.end()), near.end());
  pairs_.keepOnly(near, [&](const PairTable::Key& key) { return makePair(key); });
}

void World::NearSearch::takeShapes() {
  const StepSettings& settings = world.settings_;
  const double t = settings.frame;
  const std::vector<Hastening> assemblies = hasteningsOfAssemblies();
  for (int i = 0; i < count(); ++i) {
    const BodyShape& s = world.shapes_[i];
    const Body& b = bodyOf(i);
    world.colliders_[i].struck = 0;
    Reach r{boundsOf(s.shape, b.pose() * s.pose), 0, 0, 0, b.dynamic()};
    Hastening& hastening = world.colliders_[i].hastening = {};
    if (b.moves()) {
      // As far as the shape can get within the frame, with as much again for what strikes it.
      const double size = (r.box.high - r.box.low).norm(), extent = extentFrom(b.position, r.box);
      if (b.dynamic() && b.assembly >= 0)
        hastening = assemblies[static_cast<std::size_t>(b.assembly)];
      else if (b.dynamic())
        hastening.pushed = pushOn(s.body, extent);
      const double fall = settings.gravity.norm() * std::abs(b.gravityScale) * t * t;
      r.speed = fastestOn(b, world.time(), settings, extent);
      r.way = r.speed * t;
      r.reach = 2 * r.way + fall + hastening.wayIn(t) + 0.01 * size;
      r.box = r.box.grown(Vec3::Constant(r.reach));
    }
    fastest = std::max(fastest, r.speed);
    reaches.push_back(r);
  }
}

double World::NearSearch::pushOn(BodyId id, double extent) const {
  const Body& b = world.bodies_[id];
  const Influence given = influenceWithWindsOn(world.fields_, world.pushes_, id, b, {world.time(), world.time()});
  return (b.inverseMass * b.force + given.acceleration).norm() + b.turnedBy(given.torque + b.torque).norm() * extent;
}

// Of each assembly: what pushes, the strongest of its springs, servos, motors and winches, and moved parts to which its
// joints hold it may do to any of its bodies. What turns takes all with it that is further out, so that the lever is
// the size of the assembly.
std::vector<Hastening> World::NearSearch::hasteningsOfAssemblies() const {
  std::vector<Hastening> all(world.assemblies_.size());
  std::vector<Aabb> boxes;
  const auto boxOf = [&](int assembly) {
    if (boxes.empty()) {
      boxes.resize(all.size());
      for (const BodyShape& s : world.shapes_)
        if (const Body& b = world.bodies_[s.body]; b.dynamic() && b.assembly >= 0)
          boxes[static_cast<std::size_t>(b.assembly)].include(boundsOf(s.shape, b.pose() * s.pose));
    }
    return boxes[static_cast<std::size_t>(assembly)];
  };
  const double t = world.settings_.frame;
  const auto actsOn = [&](const Body& b) { return !b.force.isZero(0) || !b.torque.isZero(0); };
  for (BodyId id = 0; id < world.bodyCount(); ++id) {
    const Body& b = world.bodies_[id];
    if (!b.dynamic() || b.assembly < 0 || (world.fields_.empty() && world.pushes_.empty() && !actsOn(b))) continue;
    double& pushed = all[static_cast<std::size_t>(b.assembly)].pushed;
    pushed = std::max(pushed, pushOn(id, extentFrom(b.position, boxOf(b.assembly))));
  }
  for (const JointState& j : world.joints_) {
    const Body &a = world.bodies_[j.def.a], &b = world.bodies_[j.def.b];
    const int assembly = a.dynamic() ? a.assembly : b.assembly;
    if (!j.holds() || assembly < 0) continue;
    Hastening& strongest = all[static_cast<std::size_t>(assembly)];
    for (const Body* by : {&a, &b})
      if (by->role == Role::kinematic) {
        const double speed = fastestOn(*by, world.time(), world.settings_, extentFrom(by->position, boxOf(assembly)));
        strongest.carried = std::max(strongest.carried, speed);
      }
    const AxisCount count = axesOf(j.def.type);
    for (int k = 0; k < count.all(); ++k) {
      const Drive drive = driveOn(j.def.axes[k], j.def.type, j.reading.position[k], t);
      if (drive.until == 0) continue;
      double lever = 1;
      if (k >= count.along) {
        Aabb box = boxOf(assembly);
        const Vec3 pivot = (a.partPose() * j.def.frameA).position;
        box.include({pivot, pivot});
        lever = (box.high - box.low).norm();
      }
      const Hastening by{.driven = lever * drive.effort * world.freeAxis(j, k).mobility,
                         .drivenFor = lever * drive.until};
      const Hastening so{.driven = strongest.driven, .drivenFor = strongest.drivenFor};
      if (by.wayIn(t) > so.wayIn(t)) strongest.driven = by.driven, strongest.drivenFor = by.drivenFor;
    }
  }
  return all;
}

void World::NearSearch::placeLeaves() {
  std::vector<int>& leaves = world.leaves_;
  for (int i = static_cast<int>(leaves.size()); i < count(); ++i)
    leaves.push_back(reaches[i].box.high.x() < 1e200 ? world.tree_.insert(reaches[i].box, i) : -1);
  for (int i = 0; i < count(); ++i) {
    const Aabb& box = reaches[i].box;
    if (leaves[i] < 0)
      unbounded.push_back(i);
    else
      world.tree_.move(leaves[i], box, box.grown(0.2 * (box.high - box.low)));
  }
}

void World::NearSearch::findNear(int i, bool all) {
  const std::vector<BodyShape>& shapes = world.shapes_;
  const Aabb& box = reaches[i].box;
  const auto meet = [&](int j) {
    const Reach& other = reaches[j];
    if (j == i || (other.moving && j < i && !all) || !box.overlaps(other.box)) return;
    if (!world.mayTouch(shapes[i], shapes[j])) return;
    const auto* mesh = std::get_if<TriangleMesh>(&shapes[j].shape);
    if (!mesh) return near.push_back({std::min(i, j), std::max(i, j), -1});
    const Pose pose = bodyOf(j).pose() * shapes[j].pose;
    const Vec3 middle = pose.applyInverse((box.low + box.high) / 2);
    const Vec3 half = pose.rotation.toRotationMatrix().transpose().cwiseAbs() * (box.high - box.low) / 2;
    mesh->data->tree.query({middle - half, middle + half}, [&](int triangle) { near.push_back({i, j, triangle}); });
  };
  world.tree_.query(box, meet);
  for (const int j : unbounded)
    if (reachesPlane(box, world.colliders_[j], bodyOf(j))) meet(j);
}

// What is struck by something faster goes on at up to (1 + e) times its speed, by their masses, for what is left of its
// way, and may strike others yet within the frame.
void World::NearSearch::strike(int from, int to) {
  const Reach& striking = reaches[from];
  Reach& struck = reaches[to];
  if (!struck.moving) return;
  const Body &striker = bodyOf(from), &body = bodyOf(to);
  double share = striker.dynamic() && !striker.jointed ? striker.mass / (striker.mass + body.mass) : 1;
  if (2 * share * striking.way <= struck.reach) return;
  share *= 1 + world.touchOf(world.shapes_[from], world.shapes_[to]).restitution;
  const double apart = apartBy(striking.box, struck.box) + striking.reach + struck.reach;
  const double most = 4 * fastest;
  const double way = std::min(share * (striking.way - std::max(apart, 0.0)), most * world.settings_.frame);
  // Two that strike each other in turn go on for ever by less and less otherwise, or by round-off.
  constexpr double kWorthwhile = 1.01;
  if (way <= kWorthwhile * struck.reach) return;
  struck.box = struck.box.grown(Vec3::Constant(way - struck.reach));
  struck.reach = struck.way = way;
  double& speed = world.colliders_[to].struck;
  struck.speed = speed = std::max(speed, std::min(share * striking.speed, most));
  world.tree_.move(world.leaves_[to], struck.box, struck.box);
  findNear(to, true);
}

bool World::mayTouch(const BodyShape& a, const BodyShape& b) const {
  if (a.body == b.body || !bodies_[a.body].collides || !bodies_[b.body].collides) return false;
  return !(untouched_[a.layer] >> b.layer & 1u) && !quiet_.count(std::minmax(a.body, b.body));
}

World::Between World::touchOf(const BodyShape& a, const BodyShape& b) const {
  const auto found = materials_.find(std::minmax(a.material, b.material));
  if (found != materials_.end()) return found->second;
  return {std::sqrt(a.friction * b.friction), std::max(a.restitution, b.restitution)};
}

ContactPair World::makePair(const PairTable::Key& key) const {
  const BodyShape &a = shapes_[key[0]], &b = shapes_[key[1]];
  ContactPair pair;
  pair.bodyA = a.body, pair.bodyB = b.body;
  pair.shapeA = key[0], pair.shapeB = key[1], pair.triangle = key[2];
  pair.fromTheStart = frames_ == 0 && !meeting_.count(std::minmax(a.body, b.body));
  const Between touch = touchOf(a, b);
  pair.friction = touch.friction, pair.restitution = touch.restitution;
  return pair;
}

}  // namespace calm
