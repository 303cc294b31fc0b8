// SPDX-License-Identifier: GPL-3.0-or-later
// What the rules share. Each appends what it finds.
#pragma once

#include "rig/advice/advice.h"

namespace calm::rig {

void findLoosePart(const Rig& rig, std::vector<Finding>& found);
void findMissingLink(const Rig& rig, std::vector<Finding>& found);
void findDoubledPair(const Rig& rig, std::vector<Finding>& found);
void findFarJoint(const Rig& rig, std::vector<Finding>& found);
void findMisfit(const Rig& rig, std::vector<Finding>& found);
void findOverlap(const Rig& rig, std::vector<Finding>& found);
void findCollidingNeighbours(const Rig& rig, std::vector<Finding>& found);
void findStopAtRest(const Rig& rig, std::vector<Finding>& found);
void findLockedByStops(const Rig& rig, std::vector<Finding>& found);
void findMotorWithoutStrength(const Rig& rig, std::vector<Finding>& found);
void findTargetWithoutSpring(const Rig& rig, std::vector<Finding>& found);
void findWeakStrength(const Rig& rig, std::vector<Finding>& found);
void findMassRatio(const Rig& rig, std::vector<Finding>& found);
void findSpringBeyondStep(const Rig& rig, std::vector<Finding>& found);
void findOddSize(const Rig& rig, std::vector<Finding>& found);
void findFallsAway(const Rig& rig, std::vector<Finding>& found);
void findMaskedLayer(const Rig& rig, std::vector<Finding>& found);

// Whether both sides of such a joint have their pivots in one place.
bool joinsAtAPoint(JointType type);

// Parts that lie in one another at rest by more than a hundredth of the smaller one's size, and that would push: those
// of layers that touch, and joined ones only where their joint lets neighbours collide.
struct Overlap {
  Id a, b;
  Id joined;  // the joint between them, or kNone
  double depth;
  Vec3 normal;  // unit, from a to b
};
std::vector<Overlap> overlapsOf(const Rig& rig);

// N: the weight of all that is held by nothing but this joint.
double weightOn(const Rig& rig, const Joint& joint);

Shape scaled(const Shape& shape, double factor);

std::string lengthWords(double length);
std::string forceWords(double force);
std::string axisWords(JointType type, int k, double value);

}  // namespace calm::rig
