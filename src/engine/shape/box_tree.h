// SPDX-License-Identifier: GPL-3.0-or-later
// A dynamic tree of boxes: what overlaps a box, what a ray may hit. Boxes come, go and move at O(log n).
//
// New leaves go where they enlarge the tree's surface least (surface area heuristic, Goldsmith and Salmon 1987), and
// rotations on the way up keep it shallow (Kopta et al., I3D 2012).
#pragma once

#include <vector>

#include "engine/shape/shape.h"

namespace calm {

class BoxTree {
 public:
  // Returns a handle. `tag` is handed to visitors.
  int insert(const Aabb& box, int tag);
  void remove(int leaf);
  // Does nothing while the leaf's box still holds the new one.
  void move(int leaf, const Aabb& tight, const Aabb& fat);
  int size() const { return leaves_; }
  int height() const { return root_ < 0 ? 0 : nodes_[root_].height; }

  // Calls visit(tag) for every leaf whose box overlaps; in no order that means anything.
  template <class Visit>
  void query(const Aabb& box, Visit&& visit) const {
    std::vector<int> open = fromRoot();
    while (!open.empty()) {
      const Node& n = nodes_[open.back()];
      open.pop_back();
      if (!n.box.overlaps(box)) continue;
      if (n.height == 0)
        visit(n.tag);
      else
        open.push_back(n.left), open.push_back(n.right);
    }
  }
  // Calls visit(tag) for every leaf whose box the ray meets within `furthest` m; it returns how far to look from then
  // on.
  template <class Visit>
  void cast(const Ray& ray, double furthest, Visit&& visit) const {
    std::vector<int> open = fromRoot();
    while (!open.empty()) {
      const Node& n = nodes_[open.back()];
      open.pop_back();
      if (!meets(ray, n.box, furthest)) continue;
      if (n.height == 0)
        furthest = visit(n.tag, furthest);
      else
        open.push_back(n.left), open.push_back(n.right);
    }
  }

 private:
  // For a walk from the root down: no more nodes than the tree is high wait for their turn, and one.
  std::vector<int> fromRoot() const {
    std::vector<int> open;
    if (root_ < 0) return open;
    open.reserve(nodes_[root_].height + 2);
    open.push_back(root_);
    return open;
  }
  struct Node {
    Aabb box;
    int parent = -1, left = -1, right = -1;
    int height = 0;  // 0: a leaf
    int tag = 0;
  };
  static bool meets(const Ray& ray, const Aabb& box, double furthest);
  int newNode();
  void attach(int leaf);
  void refit(int node);
  void rotate(int node);

  std::vector<Node> nodes_;
  std::vector<int> free_;
  int root_ = -1, leaves_ = 0;
};

}  // namespace calm
