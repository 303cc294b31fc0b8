// SPDX-License-Identifier: GPL-3.0-or-later
// How an assembly's joints are ordered and laid out in memory, once per topology.
#include <algorithm>
#include <map>
#include <numeric>
#include <set>
#include <tuple>
#include <utility>

#include "engine/solve/assembly.h"
#include "engine/solve/ordering.h"
#include "engine/solve/yield.h"

namespace calm {

namespace {

// Default compliance where a loop may make joints redundant, m/N. Small enough for a micrometre at a meganewton, large
// enough to decide how redundant joints share a load.
constexpr double kLoopCompliance = 1e-12;
// Whether joints close a loop, counting all that is not dynamic as one.
bool hasLoop(const std::vector<Assembly::Member>& members, const std::vector<Body>& bodies) {
  std::map<BodyId, BodyId> parent;
  const auto root = [&](BodyId id) {
    if (!bodies[id].dynamic()) id = kWorld;
    parent.try_emplace(id, id);
    while (parent[id] != id) id = parent[id] = parent[parent[id]];
    return id;
  };
  const auto closes = [&](BodyId one, BodyId other) {
    const BodyId a = root(one), b = root(other);
    parent[a] = b;
    return a == b;
  };
  for (const auto& m : members) {
    if (closes(m.a, m.b)) return true;
    for (const BodyId rider : m.geometry.riders)
      if (closes(m.a, rider)) return true;
  }
  return false;
}

// The linear rows of a few joints are not along one direction where arms end.
ShortRows shortRowsOf(JointType type, const RowCount& has, bool axes) {
  switch (type) {
    case JointType::gear:
      return {};
    case JointType::pulley:
    case JointType::winch:
    case JointType::rack:
      return {0, 0, has.angular};
    case JointType::screw:
      if (axes) return {0, 0, has.angular};
      [[fallthrough]];
    default:
      return {has.pivot, has.rows - has.angular - has.pivot, has.angular};
  }
}

}  // namespace

Assembly::Assembly(const std::vector<Member>& members, const std::vector<Body>& bodies, double step) {
  looped_ = hasLoop(members, bodies);
  struct AxisRow {
    int axis;
    Kind kind;
    double yields;
  };
  struct Plan {
    const Member* member;
    Yield yield;
    std::vector<AxisRow> rows;  // none for locks
  };
  std::vector<Plan> plans;
  for (const Member& m : members) {
    const Yield yield = yieldOf(m.compliance, m.pinRadius, bodies[m.a], bodies[m.b], step);
    if (rowCount(m.type).rows > 0) plans.push_back({&m, yield, {}});
    Plan free{&m, yield, {}};
    const auto add = [&](int axis, Kind kind, double yields = 0) {
      if (free.rows.size() == kMaxRows) plans.push_back(std::exchange(free, Plan{&m, yield, {}}));
      free.rows.push_back({axis, kind, yields});
    };
    for (int k = 0; k < axesOf(m.type).all(); ++k) {
      const AxisDef& axis = m.axes[k];
      const double yields = !axis.hasHardStops() ? 0 : k < axesOf(m.type).along ? yield.along : yield.about;
      if (m.type == JointType::winch)
        add(k, Kind::winch);
      else if (yields > 0 && axis.isLocked())
        add(k, Kind::spring, yields);
      else if ((axis.hasHardStops() && yields == 0) || axis.hasDrive())
        add(k, Kind::stop, yields);
      if (m.type != JointType::winch && yields > 0 && !axis.isLocked()) add(k, Kind::softStop, yields);
      if (m.type != JointType::winch && axis.rubsAgainstMotor()) add(k, Kind::friction);
      if (axis.hasSoftStops()) add(k, Kind::softStop);
      if (axis.hasSpring()) add(k, Kind::spring);
    }
    if (!free.rows.empty()) plans.push_back(free);
  }
  const int count = static_cast<int>(plans.size());
  std::map<BodyId, std::vector<std::pair<int, int>>> users;  // dynamic body -> (plan, side)
  for (int i = 0; i < count; ++i) {
    const Member& m = *plans[i].member;
    if (bodies[m.a].dynamic()) users[m.a].push_back({i, 0});
    if (bodies[m.b].dynamic()) users[m.b].push_back({i, 1});
    for (std::size_t r = 0; r < m.geometry.riders.size(); ++r)
      if (bodies[m.geometry.riders[r]].dynamic()) users[m.geometry.riders[r]].push_back({i, 2 + static_cast<int>(r)});
  }
  // Also of joints that leave everything free.
  std::set<BodyId> dynamic;
  for (const Member& m : members) {
    std::vector<BodyId> all = m.geometry.riders;
    all.insert(all.end(), {m.a, m.b});
    for (const BodyId id : all)
      if (bodies[id].dynamic()) dynamic.insert(id);
  }
  dynamicBodies_.assign(dynamic.begin(), dynamic.end());
  std::vector<std::pair<int, int>> edges;
  for (const auto& [body, uses] : users)
    for (std::size_t i = 0; i < uses.size(); ++i)
      for (std::size_t j = 0; j < i; ++j) edges.push_back({uses[i].first, uses[j].first});

  const Elimination elimination = eliminateByMinimumDegree(count, edges);
  std::vector<int> position(count), rows(count);
  int offset = 0, memory = 0, riderMemory = 0;
  std::set<JointId> seen, seenOnAxes;
  std::map<std::pair<JointId, int>, int> motors;  // rows of each joint's axes
  for (int k = 0; k < count; ++k) {
    const Plan& plan = plans[elimination.order[k]];
    const Member& m = *plan.member;
    position[elimination.order[k]] = k;
    const bool axes = !plan.rows.empty();
    RowCount has = rowCount(m.type);
    if (axes)
      has = {static_cast<int>(plan.rows.size()),
             static_cast<int>(std::count_if(plan.rows.begin(), plan.rows.end(),
                                            [&](const auto& r) { return r.axis >= axesOf(m.type).along; }))};
    rows[k] = has.rows;
    if (!axes && plan.yield.along > 0) has.pivot = 0;
    const ShortRows kept = shortRowsOf(m.type, has, axes);
    const bool lockYields = !axes && (plan.yield.along > 0 || plan.yield.about > 0);
    nodes_.push_back({k,
                      m.joint,
                      m.type,
                      m.a,
                      m.b,
                      has.rows,
                      offset,
                      memory,
                      has.angular,
                      kept,
                      axes,
                      lockYields,
                      static_cast<int>(m.geometry.riders.size()),
                      riderMemory,
                      bodies[m.a].dynamic(),
                      bodies[m.b].dynamic(),
                      false,
                      seen.insert(m.joint).second,
                      axes && seenOnAxes.insert(m.joint).second,
                      m.breakable,
                      m.compliance > 0});
    parts_.push_back({m.geometry, m.compliance, m.pinRadius, m.fade});
    for (int r = 0; r < rows[k]; ++r) {
      axis_.emplace_back();
      state_.push_back(State::locked);
      const bool angular = r >= has.rows - has.angular;
      if (!axes) {
        const double stiffness = angular ? plan.yield.about : plan.yield.along;
        if (stiffness == 0) continue;
        axis_.back().kind = Kind::spring, axis_.back().def.stiffness = stiffness;
        state_.back() = State::spring;
        noteSpring(nodes_.back(), angular, stiffness);
        continue;
      }
      const auto& [number, kind, yields] = plan.rows[r];
      const AxisDef def = defOf(kind, m.axes[number], yields);
      axis_.back() = {number, yields, kind, def, m.windings[number]};
      state_.back() = kind == Kind::spring                   ? State::spring
                      : kind == Kind::stop && def.isLocked() ? State::atHigh
                                                             : State::set;
      if (kind == Kind::stop) motors[{m.joint, number}] = offset + r;
      if (kind != Kind::spring) continue;
      noteSpring(nodes_.back(), angular, def.stiffness);
    }
    hasAxes_ |= axes || nodes_.back().yields;
    offset += rows[k];
    memory += RowBlock::storage(has.rows, axes ? 0 : has.angular, kept);
    riderMemory += 6 * nodes_.back().riders * rows[k];
  }
  for (const Node& n : nodes_)
    for (int row = n.offset; row < n.offset + n.rows; ++row)
      if (Axis& axis = axis_[row]; axis.kind == Kind::friction) axis.motor = motors.at({n.joint, axis.number});
  cholesky_.analyse(rows, elimination.below);
  for (const auto& [body, uses] : users)
    for (std::size_t i = 0; i < uses.size(); ++i)
      for (std::size_t j = 0; j < i; ++j) {
        int row = position[uses[i].first], column = position[uses[j].first];
        int rowSide = uses[i].second, columnSide = uses[j].second;
        if (row == column) continue;
        if (row < column) std::swap(row, column), std::swap(rowSide, columnSide);
        couplings_.push_back({row, column, rowSide, columnSide, cholesky_.offDiagonal(row, column)});
      }
  std::sort(couplings_.begin(), couplings_.end(), [](const Coupling& x, const Coupling& y) {
    return std::tie(x.row, x.rowSide, x.column) < std::tie(y.row, y.rowSide, y.column);
  });
  for (std::size_t i = couplings_.size(); i-- > 0;) {
    Node& row = nodes_[couplings_[i].row];
    row.firstCoupling = static_cast<int>(i);
    ++row.couplings;
  }

  for (int k = 0; k < nodes(); ++k) {
    if (nodes_[k].dynamicA) nodesOn_[nodes_[k].a].emplace_back(k, 0);
    if (nodes_[k].dynamicB) nodesOn_[nodes_[k].b].emplace_back(k, 1);
    for (int side = 2; side < nodes_[k].sides(); ++side)
      if (bodies[bodyOf(nodes_[k], side)].dynamic()) nodesOn_[bodyOf(nodes_[k], side)].emplace_back(k, side);
  }

  rows_.assign(memory, 0);
  fresh_.assign(memory, 0);
  for (auto* v : {&riderRows_, &riderFresh_}) v->assign(riderMemory, 0);
  for (auto* v :
       {&compliance_, &gamma_, &mobility_, &target_, &impulse_, &delta_, &curvature_, &force_, &offset_, &rateBefore_,
        &rateEarlier_, &rateNow_, &rateAtRest_, &work_, &passive_, &storedBefore_, &heldMobility_})
    v->assign(offset, 0);
  springStep_.assign(offset, {0, 0, 0});
  amongLocks_.assign(offset, kNoLimit);
  grazed_.assign(offset, 0);
  usedRows_.assign(offset, 0);
  for (const Node& n : nodes_) std::iota(&usedRows_[n.offset], &usedRows_[n.offset] + n.rows, 0);
  usedCounts_.assign(nodes_.size(), 0);
  accounts_.resize(nodes_.size());
  sign_.assign(offset, 0);
  slidFrom_.assign(offset, 0);
  turns_.assign(offset, 0);
  for (const Node& n : nodes_)
    for (int r = 0; r < n.rows; ++r) {
      // Stops share nothing with others, and one that yields would send back what strikes it.
      const Axis& axis = axis_[n.offset + r];
      const bool stop = n.axes && (axis.kind == Kind::friction || (axis.kind == Kind::stop && !axis.def.isLocked()));
      const Part& part = parts_[n.index];
      const double linear = part.compliance > 0 ? part.compliance : (looped_ && !stop ? kLoopCompliance : 0);
      const bool angular = r >= n.rows - n.angular;
      compliance_[n.offset + r] = angular ? linear / (part.pinRadius * part.pinRadius) : linear;
    }
}

void Assembly::noteSpring(const Node& n, bool angular, double stiffness) {
  for (int side = 0; side < n.sides(); ++side) springsOn_[bodyOf(n, side)][angular] += stiffness;
}

AxisDef Assembly::defOf(Kind kind, const AxisDef& axis, double yields) {
  AxisDef def = axis;
  if (yields > 0 && kind == Kind::spring) {
    def = {};
    def.stiffness = yields, def.target = axis.low;
  } else if (yields > 0 && kind == Kind::softStop) {
    def.stopStiffness = yields, def.stopDamping = 0;
  } else if (yields > 0) {
    def.low = -kNoLimit, def.high = kNoLimit;
  }
  if (kind == Kind::friction) {
    def = {};
    def.friction = axis.friction;
  } else if (kind == Kind::stop) {
    if (axis.rubsAgainstMotor()) def.friction = 0;
    if (axis.cap == 0) def.speed = def.acceleration = 0;  // of a motor that is off
  }
  return def;
}

void Assembly::markUntouchedAxes(std::vector<Body>& bodies) const {
  std::map<BodyId, std::vector<Vec3>> arms;
  std::set<BodyId> turned;  // by angular rows
  for (const Node& n : nodes_) {
    const JointGeometry& geometry = parts_[n.index].geometry;
    arms[n.a].push_back(geometry.anchorA);
    arms[n.b].push_back(geometry.anchorB);
    if (n.angular > 0) turned.insert(n.a), turned.insert(n.b);
    turned.insert(geometry.riders.begin(), geometry.riders.end());
  }
  for (const BodyId id : dynamicBodies_) {
    Vec3 longest = Vec3::Zero();
    for (const Vec3& arm : arms[id])
      if (arm.norm() > longest.norm()) longest = arm;
    const Vec3 axis = longest.normalized();
    const bool onOneLine = std::all_of(arms[id].begin(), arms[id].end(), [&](const Vec3& arm) {
      return axis.cross(arm).norm() <= 1e-9 * longest.norm();
    });
    bodies[id].untouchedAxis = onOneLine && !turned.count(id) && longest.norm() > 0 ? axis : Vec3::Zero();
  }
}

}  // namespace calm
