// SPDX-License-Identifier: GPL-3.0-or-later
// What the kits ask for. A group keeps the form it was made from, so that its choices can be changed later.
#pragma once

#include <variant>

#include "rig/units.h"

namespace calm::rig {

// Put together by hand: nothing to choose.
struct ByHand {};

// A chain or rope of equal links between two ends.
struct Line {
  double length = 2;  // m
  int links = 40;
  double thickness = 0.02;  // m
  double massPerMetre = 4;  // kg/m
};

// The same, closed upon itself.
struct Ring {
  double length = 2;  // m, all the way round
  int links = 24;
  double thickness = 0.02;  // m
  double massPerMetre = 4;  // kg/m
};

// Treads on two ropes that hang from what holds them.
struct Ladder {
  double height = 2.4;  // m, from the top to the lowest tread
  int treads = 8;
  double width = 0.4;  // m, between the ropes
  double treadDepth = 0.11, treadThickness = 0.03;
  double treadMass = 1.2;  // kg, each
  int linksBetween = 4;    // of each rope, from tread to tread
  double ropeThickness = 0.018;
  double ropeMassPerMetre = 0.6;
};

// A leaf on hinges, with stops, a closer and a latch.
struct Door {
  double width = 1, height = 2, thickness = 0.04;  // m, of the leaf
  double mass = 40;                                // kg
  int hinges = 2;
  bool posts = true;            // of its own; otherwise the leaf hangs on what holds it
  double opens = 1.7453292520;  // rad, to the stop
  double friction = 0.5;        // N m, of the hinges
  double closerTorque = 4;      // N m, when closed
  double closerStiffness = 3;   // N m/rad, by which it grows
  double closerDamping = 8;     // N m s/rad
  double latch = 30;            // N at the handle that the latch holds, once; 0: no latch
};

// Calls visit(key in files, words on screen, dimension, member) for each choice, in the order of asking.
template <class Visit>
void visitChoices(ByHand&, Visit&&) {}
template <class AnyLine, class Visit>
void visitLineChoices(AnyLine& f, Visit&& visit) {
  visit("length_m", "Length", Dimension::length, f.length);
  visit("links", "Links", Dimension::number, f.links);
  visit("thickness_m", "Thickness", Dimension::length, f.thickness);
  visit("mass_per_metre_kg_m", "Mass a metre", Dimension::lineMass, f.massPerMetre);
}
template <class Visit>
void visitChoices(Line& f, Visit&& visit) {
  visitLineChoices(f, visit);
}
template <class Visit>
void visitChoices(Ring& f, Visit&& visit) {
  visitLineChoices(f, visit);
}
template <class Visit>
void visitChoices(Ladder& f, Visit&& visit) {
  visit("height_m", "Height", Dimension::length, f.height);
  visit("treads", "Treads", Dimension::number, f.treads);
  visit("width_m", "Between ropes", Dimension::length, f.width);
  visit("tread_depth_m", "Tread depth", Dimension::length, f.treadDepth);
  visit("tread_thickness_m", "Tread thickness", Dimension::length, f.treadThickness);
  visit("tread_mass_kg", "Tread mass", Dimension::mass, f.treadMass);
  visit("links_between", "Links between", Dimension::number, f.linksBetween);
  visit("rope_thickness_m", "Rope thickness", Dimension::length, f.ropeThickness);
  visit("rope_mass_per_metre_kg_m", "Rope mass a metre", Dimension::lineMass, f.ropeMassPerMetre);
}
template <class Visit>
void visitChoices(Door& f, Visit&& visit) {
  visit("width_m", "Leaf width", Dimension::length, f.width);
  visit("height_m", "Leaf height", Dimension::length, f.height);
  visit("thickness_m", "Leaf thickness", Dimension::length, f.thickness);
  visit("mass_kg", "Leaf mass", Dimension::mass, f.mass);
  visit("hinges", "Hinges", Dimension::number, f.hinges);
  visit("posts", "Posts of its own", Dimension::number, f.posts);
  visit("opens_rad", "Opens to", Dimension::angle, f.opens);
  visit("friction_N_m", "Hinge friction", Dimension::torque, f.friction);
  visit("closer_torque_N_m", "Closer, shut", Dimension::torque, f.closerTorque);
  visit("closer_stiffness_N_m_rad", "Closer stiffness", Dimension::turnStiffness, f.closerStiffness);
  visit("closer_damping_N_m_s_rad", "Closer damping", Dimension::turnDamping, f.closerDamping);
  visit("latch_N", "Latch holds", Dimension::force, f.latch);
}

using Form = std::variant<ByHand, Line, Ring, Ladder, Door>;

template <class Visit>
void visitForm(Form& form, Visit&& visit) {
  std::visit([&](auto& f) { visitChoices(f, visit); }, form);
}
// The same on a copy, to be read only.
template <class Visit>
void visitForm(const Form& form, Visit&& visit) {
  Form copy = form;
  visitForm(copy, visit);
}

}  // namespace calm::rig
