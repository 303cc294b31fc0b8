// SPDX-License-Identifier: GPL-3.0-or-later
// The inertia with which bodies answer constraint impulses, against the same by dense eigenvalues.
#include "engine/solve/geometric_stiffness.h"

#include <gtest/gtest.h>

#include <Eigen/Eigenvalues>
#include <random>

namespace calm {
namespace {

constexpr double kStep = 1.0 / 480;  // s

class Response : public testing::Test {
 protected:
  Body makeBody() {
    Body body;
    body.role = Role::dynamic;
    body.inertia = PrincipalInertia(Vec3(0.02, 0.05, 0.04));
    body.orientation = Quat(normal(), normal(), normal(), normal()).normalized();
    body.axes = body.orientation.toRotationMatrix();
    return body;
  }
  // K such that h^2 D^-1 K D^-1 has these eigenvalues, along axes turned at random.
  void stiffen(Body& body, const Vec3& squaredFrequencies) {
    const Mat3 turned = Quat(normal(), normal(), normal(), normal()).normalized().toRotationMatrix();
    const Mat3 root = body.axes * body.inertia.moments().cwiseSqrt().asDiagonal();
    const Mat3 s = turned * squaredFrequencies.asDiagonal() * turned.transpose();
    body.stiffness = root * s * root.transpose() / (kStep * kStep);
    body.stiffened = true;
  }
  double normal() { return normal_(random_); }

  std::mt19937 random_{5};
  std::normal_distribution<double> normal_;
};

TEST_F(Response, IsTheInverseInertiaWithoutForces) {
  Body body = makeBody();
  updateResponse(body, kStep, 1);
  EXPECT_LE((body.response * body.worldInertia() - Mat3::Identity()).norm(), 1e-13);
  // And where the step resolves what the forces make it swing with.
  stiffen(body, Vec3(0.001, 0.004, 0.01));
  updateResponse(body, kStep, 1);
  EXPECT_LE((body.response * body.worldInertia() - Mat3::Identity()).norm(), 1e-13);
}

TEST_F(Response, HasAllOfAStiffnessThatTheStepDoesNotResolve) {
  for (int trial = 0; trial < 10; ++trial) {
    Body body = makeBody();
    stiffen(body, Vec3(4, 6, 9));
    updateResponse(body, kStep, 0.4);
    const Mat3 whole = body.worldInertia() + 0.4 * kStep * kStep * body.stiffness;
    EXPECT_LE((body.response * whole - Mat3::Identity()).norm(), 1e-12) << "trial " << trial;
  }
}

// What would push over does not: negative directions count as none.
TEST_F(Response, TakesNothingFromNegativeDirections) {
  for (int trial = 0; trial < 10; ++trial) {
    Body body = makeBody();
    stiffen(body, Vec3(-8, 9, 5));
    const Mat3 root = body.axes * body.inertia.inverse().cwiseSqrt().asDiagonal();
    const Mat3 s = kStep * kStep * root.transpose() * body.stiffness * root;
    const Eigen::SelfAdjointEigenSolver<Mat3> solver(s);
    const Mat3 kept =
        solver.eigenvectors() * solver.eigenvalues().cwiseMax(0).asDiagonal() * solver.eigenvectors().transpose();
    updateResponse(body, kStep, 1);
    const Mat3 expected = root * (Mat3::Identity() + kept).inverse() * root.transpose();
    EXPECT_LE((body.response - expected).norm(), 1e-6 * expected.norm()) << "trial " << trial;
    EXPECT_GT(body.response.selfadjointView<Eigen::Lower>().eigenvalues().minCoeff(), 0);
  }
}

// Where all joints pull at points of one line, none can turn the body about it.
TEST_F(Response, LeavesTheUntouchedAxisAlone) {
  Body body = makeBody();
  stiffen(body, Vec3(4, 6, 9));
  body.untouchedAxis = Vec3(1, 2, -1).normalized();
  const Vec3 axis = body.axes * body.untouchedAxis;
  const Mat3 across = Mat3::Identity() - axis * axis.transpose();
  const Mat3 left = across * body.stiffness * across;
  updateResponse(body, kStep, 1);
  const Mat3 whole = body.worldInertia() + kStep * kStep * left;
  EXPECT_LE((body.response * whole - Mat3::Identity()).norm(), 1e-9);
}

// Eight at a time as one by one, to the bit: bodies without forces, with stiff and with negative ones among them.
TEST_F(Response, IsTheSameForManyAsForEach) {
  std::vector<Body> bodies;
  std::vector<int> ids;
  for (int i = 0; i < 27; ++i) {
    bodies.push_back(makeBody());
    ids.push_back(i);
    if (i % 4 == 1) stiffen(bodies[i], Vec3(4, 6, 9));
    if (i % 4 == 2) stiffen(bodies[i], Vec3(0.2, 0.3, 9));
    if (i % 4 == 3) stiffen(bodies[i], Vec3(-8, 9, 5));
    if (i % 5 == 0) bodies[i].untouchedAxis = Vec3(1, 2, -1).normalized();
  }
  std::vector<Body> alone = bodies;
  updateResponses(bodies, ids, kStep, 0.4);
  for (int i = 0; i < 27; ++i) {
    updateResponse(alone[i], kStep, 0.4);
    EXPECT_EQ(bodies[i].response, alone[i].response) << "body " << i;
  }
}

// A force that keeps its direction while its point turns by a small angle: its torque does the work -angle . K angle /
// 2 beyond the first order, to the third.
TEST(GeometricStiffness, OfAForceIsHowItsTorqueChanges) {
  const Vec3 arm(0.3, -0.2, 0.5), force(4, 7, -2);
  Mat3 stiffness = Mat3::Zero();
  Stiffening sum;
  sum.add(arm, force);
  sum.addTo(stiffness);
  for (const Vec3& angle : {Vec3(1e-3, 0, 0), Vec3(0, 2e-3, -1e-3), Vec3(-1e-3, 1e-3, 2e-3)}) {
    const Vec3 moved = rotationFromVector(angle) * arm;
    const double work = force.dot(moved - arm), first = force.dot(angle.cross(arm));
    EXPECT_NEAR(work - first, -0.5 * angle.dot(stiffness * angle), 10 * std::pow(angle.norm(), 3));
  }
}

}  // namespace
}  // namespace calm
