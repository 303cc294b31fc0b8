// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/view/camera.h"

#include <gtest/gtest.h>

namespace calm::app {
namespace {

class CameraTest : public testing::TestWithParam<bool> {
 protected:
  Camera camera;
  void SetUp() override {
    camera.setViewport({980, 460});
    camera.setOrthographic(GetParam());
    camera.frame({Vec3(-1, 0, -1), Vec3(2, 3, 1)});
  }
};

TEST_P(CameraTest, RaysGoThroughThePointsThatProjectThere) {
  for (const Vec3& p : {Vec3(0.5, 1.5, 0), Vec3(-1, 0, 0.7), Vec3(2, 3, 1)}) {
    const auto pixel = camera.project(p);
    ASSERT_TRUE(pixel);
    const Ray ray = camera.ray(*pixel);
    EXPECT_LE((p - ray.origin).cross(ray.direction).norm(), 1e-3) << p.transpose();
  }
}

TEST_P(CameraTest, FramingShowsTheWholeBox) {
  for (const Vec3& p : {Vec3(-1, 0, -1), Vec3(2, 3, 1), Vec3(2, 0, 1)}) {
    const auto pixel = camera.project(p);
    ASSERT_TRUE(pixel);
    EXPECT_TRUE(QRectF(0, 0, 980, 460).contains(*pixel)) << pixel->x() << " " << pixel->y();
  }
}

TEST_P(CameraTest, ZoomingKeepsThePointUnderThePointer) {
  const Vec3 p(0.5, 1.5, 0);
  const QPointF before = *camera.project(p);
  camera.zoom(1.7, before);
  const QPointF after = *camera.project(p);
  EXPECT_NEAR(before.x(), after.x(), 1);
  EXPECT_NEAR(before.y(), after.y(), 1);
}

INSTANTIATE_TEST_SUITE_P(Projections, CameraTest, testing::Bool());

}  // namespace
}  // namespace calm::app
