// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/contact_patch.h"

#include <algorithm>
#include <cmath>

#include "engine/contact/even_pressure.h"
#include "engine/math/groups.h"

namespace calm {

void Touches::arrange(const std::vector<Body>& all) {
  // Of each body among those that are touched; -1: none, as all are again in the end. One for each thread: islands are
  // many, and each touches few bodies.
  thread_local std::vector<int> placeOf;
  if (placeOf.size() < all.size()) placeOf.resize(all.size(), -1);
  bodies.clear();
  const auto note = [&](int id) {
    if (placeOf[id] < 0) placeOf[id] = static_cast<int>(bodies.size()), bodies.push_back(id);
  };
  for (const ContactPatch& p : patches) note(p.a), note(p.b);
  Groups groups(bodies.size());
  for (const ContactPatch& p : patches)
    if (all[p.a].dynamic() && all[p.b].dynamic()) groups.join(placeOf[p.a], placeOf[p.b]);
  // Sets one after another, each in the order of the pairs.
  std::vector<int> setOfGroup(bodies.size(), -1), setOf;
  sets.clear();
  for (const ContactPatch& p : patches) {
    int& set = setOfGroup[groups.root(placeOf[all[p.a].dynamic() ? p.a : p.b])];
    if (set < 0) set = static_cast<int>(sets.size()), sets.push_back({});
    ++sets[set].endPatch;
    setOf.push_back(set);
  }
  for (const int id : bodies) placeOf[id] = -1;
  bodies.clear();
  int first = 0;
  for (ContactSet& set : sets) {
    set.firstPatch = first;
    first += set.endPatch;
    set.endPatch = set.firstPatch;
  }
  order.resize(patches.size());
  for (std::size_t i = 0; i < patches.size(); ++i) order[sets[setOf[i]].endPatch++] = static_cast<int>(i);
  for (ContactSet& set : sets) {
    set.firstPlace = static_cast<int>(bodies.size());
    for (int k = set.firstPatch; k < set.endPatch; ++k) {
      ContactPatch& p = patches[order[k]];
      note(p.a), note(p.b);
      p.placeA = placeOf[p.a], p.placeB = placeOf[p.b];
    }
    set.endPlace = static_cast<int>(bodies.size());
  }
  for (const int id : bodies) placeOf[id] = -1;
}

namespace {

// Whether these lie on one line.
bool areInLine(const std::vector<Vec3>& points) {
  constexpr double kStraight = 1e-3;
  const auto nearer = [&](const Vec3& x, const Vec3& y) {
    return (x - points[0]).squaredNorm() < (y - points[0]).squaredNorm();
  };
  const Vec3 whole = *std::max_element(points.begin(), points.end(), nearer) - points[0];
  return std::all_of(points.begin(), points.end(), [&](const Vec3& p) {
    return (p - points[0]).cross(whole).norm() <= kStraight * whole.squaredNorm();
  });
}

}  // namespace

void Touches::shareAcrossSeams() {
  constexpr double kMost = 30;
  struct Part {
    ContactPatch* patch;
    double size;  // of its face; where none of them has one, of its line
    int points;   // that touch together
  };
  int seams = 0;
  for (const ContactPatch& patch : patches) seams = std::max(seams, patch.seam + 1);
  for (std::vector<ContactPatch*>& face : facesInParts()) {
    std::vector<Part> faces, lines;
    std::vector<Vec3> all;
    for (ContactPatch* patch : face) {
      std::vector<Vec3> together;
      for (int k = patch->first; k < patch->end; ++k)
        if (points[k].gap <= patch->together) together.push_back(points[k].position);
      all.insert(all.end(), together.begin(), together.end());
      const EvenPressure even = evenPressureOn(patch->normal(), together);
      const int count = static_cast<int>(together.size());
      if (even.area > 0) faces.push_back({patch, even.area, count});
      if (even.length > 0) lines.push_back({patch, even.length, count});
    }
    const std::vector<Part>& parts = faces.empty() ? lines : faces;
    if (parts.size() < 2) continue;
    double size = 0, count = 0;
    Vec3 wandering = Vec3::Zero();
    for (const Part& part : parts) size += part.size, count += part.points;
    for (const Part& part : parts) wandering += part.size / size * part.patch->wandering;
    const bool inLine = faces.empty() && areInLine(all);
    for (const Part& part : parts) {
      ContactPatch& patch = *part.patch;
      patch.seam = seams;
      for (int k = patch.first; k < patch.end; ++k)
        points[k].softer = std::min(size / count * part.points / part.size, kMost);
      // A line goes along the face as its middle does.
      const Vec3 n = patch.normal();
      if (inLine) patch.wandering = wandering + n * n.dot(patch.wandering - wandering);
    }
    ++seams;
  }
}

std::vector<std::vector<ContactPatch*>> Touches::facesInParts() {
  constexpr double kFlat = 1 - 1e-6, kLevel = 1e-5;  // m
  std::vector<std::vector<ContactPatch*>> faces;
  for (ContactPatch& patch : patches) {
    if (patch.seam >= 0) continue;
    const auto holds = [&](const std::vector<ContactPatch*>& face) {
      const ContactPatch& other = *face.front();
      return patch.a == other.a && patch.b == other.b && patch.normal().dot(other.normal()) > kFlat &&
             std::abs(patch.normal().dot(patch.middle - other.middle)) < kLevel;
    };
    const auto found = std::find_if(faces.begin(), faces.end(), holds);
    if (found == faces.end())
      faces.push_back({&patch});
    else
      found->push_back(&patch);
  }
  std::erase_if(faces, [](const auto& face) { return face.size() < 2; });
  return faces;
}

}  // namespace calm
