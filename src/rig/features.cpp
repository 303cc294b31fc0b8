// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/features.h"

#include <stdexcept>

#include "engine/math/rotation.h"
#include "engine/shape/hull.h"
#include "rig/edits.h"

namespace calm::rig {

namespace {

void addBox(const Vec3& size, std::vector<Feature>& list) {
  for (int code = 0; code < 27; ++code) {
    const Vec3 side(code % 3 - 1, code / 3 % 3 - 1, code / 9 - 1);
    const int out = static_cast<int>(side.cwiseAbs().sum());
    constexpr const char* kWords[] = {"centre", "face", "edge", "corner"};
    if (out > 0) list.push_back({side.cwiseProduct(size) / 2, kWords[out]});
  }
}

void addHull(const HullData& hull, std::vector<Feature>& list) {
  for (const Vec3& v : hull.vertices) list.push_back({v, "corner"});
  for (const HullData::Face& f : hull.faces) {
    Vec3 middle = Vec3::Zero();
    for (std::size_t i = 0; i < f.vertices.size(); ++i) {
      const Vec3 &p = hull.vertices[f.vertices[i]], &q = hull.vertices[f.vertices[(i + 1) % f.vertices.size()]];
      middle += p / static_cast<double>(f.vertices.size());
      if (f.vertices[i] < f.vertices[(i + 1) % f.vertices.size()]) list.push_back({(p + q) / 2, "edge"});
    }
    list.push_back({middle, "face"});
  }
}

}  // namespace

std::vector<Feature> featuresOf(const Part& part) {
  std::vector<Feature> list{{part.massProperties().center, "centre"}};
  const auto ends = [&](double length) {
    for (const double side : {-0.5, 0.5}) list.push_back({{0, side * length, 0}, "end"});
  };
  if (const auto* box = std::get_if<Box>(&part.shape))
    addBox(box->size, list);
  else if (const auto* capsule = std::get_if<Capsule>(&part.shape))
    ends(capsule->length);
  else if (const auto* cylinder = std::get_if<Cylinder>(&part.shape))
    ends(cylinder->length);
  else if (const auto* hull = std::get_if<ConvexHull>(&part.shape))
    addHull(*hull->data, list);
  else if (!std::holds_alternative<Sphere>(part.shape) && !std::holds_alternative<HalfSpace>(part.shape)) {
    const Aabb bounds = boundsOf(part.shape, {});
    const std::size_t first = list.size();
    addBox(bounds.high - bounds.low, list);
    for (std::size_t i = first; i < list.size(); ++i) list[i].at += (bounds.low + bounds.high) / 2;
  }
  for (Feature& f : list) f.at = part.pose.apply(f.at);
  return list;
}

std::vector<Feature> featuresBetween(const Part& a, const Part& b) {
  const ConvexCore ca = facingCore(a), cb = facingCore(b);
  const ClosestPoints closest = closestPoints(ca, cb);
  if (closest.distance < 1e-9) return {};
  const Vec3 n = (closest.onB - closest.onA) / closest.distance;
  const Vec3 onA = closest.onA + n * ca.radius, onB = closest.onB - n * cb.radius;
  constexpr double kTouching = 1e-4;  // m
  if ((onB - onA).dot(n) < kTouching) return {{(onA + onB) / 2, "touch"}};
  return {{onA, "face"}, {onB, "face"}, {(onA + onB) / 2, "gap"}};
}

void movePivot(Rig& rig, Id id, const Vec3& at) {
  Joint& joint = *rig.joint(id);
  for (Side* side : {&joint.a, &joint.b}) {
    const Part* part = rig.part(side->part);
    side->at = part ? part->pose.applyInverse(at) : at;
  }
}

void turnAxis(Rig& rig, Id id, const Vec3& axis) {
  if (!(axis.norm() > 1e-9)) throw std::invalid_argument("an axis needs a direction");
  Joint& joint = *rig.joint(id);
  const Vec3 now = restFrame(rig, joint.a).rotation * Vec3::UnitX();
  const Quat turn = turnBetween(now, axis);
  for (Side* side : {&joint.a, &joint.b}) {
    const Pose frame = restFrame(rig, *side);
    const Quat turned = turn * frame.rotation;
    *side = sideAt(rig, side->part, frame.position, turned * Vec3::UnitX(), turned * Vec3::UnitY());
  }
}

}  // namespace calm::rig
