// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/shape/box_tree.h"

#include <algorithm>

namespace calm {

namespace {

double area(const Aabb& b) {
  const Vec3 d = b.high - b.low;
  return d.x() * d.y() + d.y() * d.z() + d.z() * d.x();
}

Aabb joined(Aabb a, const Aabb& b) {
  a.include(b);
  return a;
}

bool holds(const Aabb& outer, const Aabb& inner) {
  return (outer.low.array() <= inner.low.array()).all() && (outer.high.array() >= inner.high.array()).all();
}

}  // namespace

bool BoxTree::meets(const Ray& ray, const Aabb& box, double furthest) {
  double enter = 0, leave = furthest;
  for (int i = 0; i < 3; ++i) {
    if (ray.direction[i] == 0) {
      if (ray.origin[i] < box.low[i] || ray.origin[i] > box.high[i]) return false;
      continue;
    }
    double t0 = (box.low[i] - ray.origin[i]) / ray.direction[i], t1 = (box.high[i] - ray.origin[i]) / ray.direction[i];
    if (t0 > t1) std::swap(t0, t1);
    enter = std::max(enter, t0);
    leave = std::min(leave, t1);
  }
  return enter <= leave;
}

int BoxTree::newNode() {
  if (free_.empty()) {
    nodes_.emplace_back();
    return static_cast<int>(nodes_.size()) - 1;
  }
  const int node = free_.back();
  free_.pop_back();
  nodes_[node] = {};
  return node;
}

int BoxTree::insert(const Aabb& box, int tag) {
  const int leaf = newNode();
  nodes_[leaf].box = box;
  nodes_[leaf].tag = tag;
  attach(leaf);
  ++leaves_;
  return leaf;
}

void BoxTree::attach(int leaf) {
  if (root_ < 0) {
    root_ = leaf;
    return;
  }
  const Aabb box = nodes_[leaf].box;
  int at = root_;
  while (nodes_[at].height > 0) {
    // Stay here, or go on into the child that grows less.
    const double here = area(joined(nodes_[at].box, box));
    const double inherited = 2 * (here - area(nodes_[at].box));
    const auto cost = [&](int child) {
      const Node& c = nodes_[child];
      return area(joined(c.box, box)) - (c.height > 0 ? area(c.box) : 0) + inherited;
    };
    const double left = cost(nodes_[at].left), right = cost(nodes_[at].right);
    if (2 * here < std::min(left, right)) break;
    at = left <= right ? nodes_[at].left : nodes_[at].right;
  }
  const int parent = newNode(), above = nodes_[at].parent;
  nodes_[parent].parent = above;
  nodes_[parent].left = at;
  nodes_[parent].right = leaf;
  nodes_[at].parent = nodes_[leaf].parent = parent;
  if (above < 0)
    root_ = parent;
  else
    (nodes_[above].left == at ? nodes_[above].left : nodes_[above].right) = parent;
  refit(parent);
}

void BoxTree::refit(int node) {
  for (; node >= 0; node = nodes_[node].parent) {
    rotate(node);
    Node& n = nodes_[node];
    n.box = joined(nodes_[n.left].box, nodes_[n.right].box);
    n.height = 1 + std::max(nodes_[n.left].height, nodes_[n.right].height);
  }
}

// Exchanges a child with a grandchild on the other side where the tree is lopsided.
void BoxTree::rotate(int node) {
  Node& n = nodes_[node];
  const int tilt = nodes_[n.left].height - nodes_[n.right].height;
  if (tilt >= -1 && tilt <= 1) return;
  int& low = tilt > 0 ? n.right : n.left;
  Node& high = nodes_[tilt > 0 ? n.left : n.right];
  const bool leftIsHigher = nodes_[high.left].height > nodes_[high.right].height;
  int& risen = leftIsHigher ? high.left : high.right;
  std::swap(low, risen);
  nodes_[low].parent = node;
  const int highIndex = tilt > 0 ? n.left : n.right;
  nodes_[risen].parent = highIndex;
  high.box = joined(nodes_[high.left].box, nodes_[high.right].box);
  high.height = 1 + std::max(nodes_[high.left].height, nodes_[high.right].height);
}

void BoxTree::remove(int leaf) {
  --leaves_;
  free_.push_back(leaf);
  const int parent = nodes_[leaf].parent;
  if (parent < 0) {
    root_ = -1;
    return;
  }
  const int sibling = nodes_[parent].left == leaf ? nodes_[parent].right : nodes_[parent].left;
  const int above = nodes_[parent].parent;
  nodes_[sibling].parent = above;
  free_.push_back(parent);
  if (above < 0) {
    root_ = sibling;
    return;
  }
  (nodes_[above].left == parent ? nodes_[above].left : nodes_[above].right) = sibling;
  refit(above);
}

void BoxTree::move(int leaf, const Aabb& tight, const Aabb& fat) {
  if (holds(nodes_[leaf].box, tight)) return;
  const int tag = nodes_[leaf].tag;
  remove(leaf);
  // remove() left the leaf's own slot next to last or last in the free list; the handle must stay.
  std::erase(free_, leaf);
  nodes_[leaf] = {};
  nodes_[leaf].box = fat;
  nodes_[leaf].tag = tag;
  attach(leaf);
  ++leaves_;
}

}  // namespace calm
