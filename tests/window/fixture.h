// SPDX-License-Identifier: GPL-3.0-or-later
// A real window with a rig in it, and hands to use it with.
#pragma once

#include <gtest/gtest.h>

#include <QApplication>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QTest>

#include "app/ledger/ledger.h"
#include "app/make/maker.h"
#include "app/window.h"
#include "rig/demos.h"

namespace calm::app {

class WindowTest : public testing::Test {
 protected:
  Session session;
  Window window{session};

  void SetUp() override {
    session.show(firstRig());
    window.show();
    ASSERT_TRUE(QTest::qWaitForWindowExposed(&window));
    QApplication::setActiveWindow(&window);  // there is no window manager to do it
    finishRun();
  }
  // What the window opens with.
  virtual rig::Rig firstRig() const { return rig::jibHoistSlice(); }
  void finishRun() {
    constexpr int kHung = 300000;  // ms; under the sanitizers a run takes a minute
    ASSERT_TRUE(QTest::qWaitFor([&] { return session.hasFrames() && !session.computing(); }, kHung));
    QTest::qWait(50);
  }
  void key(Qt::Key k, Qt::KeyboardModifiers modifiers = {}) {
    // Without a window system nobody gives the window back to the keyboard once a control that had it is gone.
    if (!QApplication::activeWindow()) {
      window.activateWindow();
      QApplication::processEvents();
    }
    QTest::keyClick(&window, k, modifiers);
  }
  template <class T>
  T* named(const QString& accessibleName) {
    QApplication::processEvents();  // what was just built is shown by then
    for (T* w : window.findChildren<T*>())
      if (w->accessibleName() == accessibleName && w->isVisible()) return w;
    ADD_FAILURE() << "no control named " << accessibleName.toStdString();
    return nullptr;
  }
  void type(const QString& name, const QString& text) {
    auto* field = named<QLineEdit>(name);
    ASSERT_NE(field, nullptr);
    field->setFocus();
    field->selectAll();
    if (text.isEmpty()) QTest::keyClick(field, Qt::Key_Delete);
    QTest::keyClicks(field, text);
  }
  void enter(const QString& name, const QString& text) {
    type(name, text);
    QTest::keyClick(named<QLineEdit>(name), Qt::Key_Return);
  }
  // Without OpenGL there is no View, and the window must say so.
  bool viewIsThere() {
    if (window.view()) return true;
    EXPECT_NE(window.findChild<QLabel*>("noView"), nullptr);
    return false;
  }
  void pressMake() {
    auto* button = window.maker()->findChild<QPushButton*>("make");
    ASSERT_TRUE(button->isEnabled());
    QTest::mouseClick(button, Qt::LeftButton);
  }
  int rowNamed(const std::string& name) {
    const auto& rows = window.ledger()->rows();
    for (std::size_t r = 0; r < rows.size(); ++r)
      if (session.rig().joint(rows[r].id) && session.rig().joint(rows[r].id)->name == name) return int(r);
    return -1;
  }
  rig::Id idNamed(const std::string& name) {
    for (const rig::Part& p : session.rig().parts)
      if (p.name == name) return p.id;
    for (const rig::Joint& j : session.rig().joints)
      if (j.name == name) return j.id;
    for (const rig::Group& g : session.rig().groups)
      if (g.name == name) return g.id;
    return rig::kNone;
  }
};

}  // namespace calm::app
