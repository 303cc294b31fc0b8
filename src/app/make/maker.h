// SPDX-License-Identifier: GPL-3.0-or-later
// The panels that make things: choices on paper, the result previewed in the View, one press to make it.
#pragma once

#include <QComboBox>
#include <QFrame>
#include <QLabel>
#include <QPushButton>
#include <QScrollArea>
#include <QSpinBox>

#include "app/card/field.h"
#include "app/session.h"
#include "app/view/view.h"

class QFormLayout;
class QVBoxLayout;

namespace calm::app {

// The types that two parts and a place are enough for.
inline constexpr JointType kPairTypes[] = {
    JointType::ball,     JointType::hinge,     JointType::fixed,  JointType::slider, JointType::limb,
    JointType::cylinder, JointType::universal, JointType::planar, JointType::wheel,  JointType::screw,
    JointType::sixAxis,  JointType::distance,  JointType::spring};

// Three fields for a point, in metres.
class PointField : public QWidget {
  Q_OBJECT
 public:
  explicit PointField(const QString& name, QWidget* parent = nullptr);
  void setPoint(const Vec3& point);
  std::optional<Vec3> point() const;

 signals:
  void changed();

 private:
  Field* axes_[3];
};

class Maker : public QFrame {
  Q_OBJECT
 public:
  Maker(Session& session, const QString& title, const QString& hint, const QString& verb, QWidget* parent);

  // A click in the View.
  virtual void take(const Pick& pick) = 0;
  // Reads the choices, previews them, and says what is wrong with them.
  void refresh();
  // Makes it; stays open on failure.
  void make();
  // Takes the height that the choices need, or that there is room for.
  void fit();

 signals:
  void done();

 protected:
  // Sets the preview; returns what is wrong, or nothing.
  virtual QString preview(Preview& preview) = 0;
  // The edit, applied under the name; may throw.
  virtual QString stepName() const = 0;
  virtual void apply(rig::Rig& rig) = 0;
  // What the edit made, to be selected.
  std::set<rig::Id> made_;

  void addRow(const QString& label, QWidget* field);
  Field* addField(const QString& label, rig::Dimension dimension, double value);
  QComboBox* addChoice(const QString& label, const QStringList& choices);
  // All parts by name, with the world first when wanted; the data are ids.
  QComboBox* addPartChoice(const QString& label, bool withWorld);
  void showRow(QWidget* field, bool shown);
  void keyPressEvent(QKeyEvent* event) override;

  Session& session_;
  QFormLayout* form_;
  QScrollArea* body_;
  QLabel* fault_;
  QPushButton* button_;
};

class PartMaker : public Maker {
  Q_OBJECT
 public:
  PartMaker(Session& session, QWidget* parent);
  void take(const Pick& pick) override;

 private:
  QString preview(Preview& preview) override;
  QString stepName() const override;
  void apply(rig::Rig& rig) override;
  rig::Part part() const;

  QLineEdit* name_;
  QComboBox *shape_, *role_, *heftKind_;
  Field *x_, *y_, *z_, *radius_, *length_, *heft_;
  PointField* at_;
};

class JointMaker : public Maker {
  Q_OBJECT
 public:
  JointMaker(Session& session, QWidget* parent);
  void take(const Pick& pick) override;

 protected:
  bool event(QEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;

 private:
  QString preview(Preview& preview) override;
  QString stepName() const override;
  void apply(rig::Rig& rig) override;
  // The choice whose next alternative a key takes; none for other keys.
  QComboBox* alternativesAt(int key) const;
  Vec3 pivot() const;
  Vec3 axis() const;
  rig::Id idOf(const QComboBox* box) const { return box->currentData().toInt(); }

  QComboBox *type_, *a_, *b_, *where_, *axis_;
  PointField* point_;
  int taken_ = 0;
};

class LineMaker : public Maker {
  Q_OBJECT
 public:
  LineMaker(Session& session, QWidget* parent);
  void take(const Pick& pick) override;

 private:
  QString preview(Preview& preview) override;
  QString stepName() const override;
  void apply(rig::Rig& rig) override;
  rig::LineChoices choices() const;
  void followDistance();

  QLineEdit* name_;
  QComboBox *fromPart_, *toPart_;
  PointField *from_, *to_;
  Field *length_, *thickness_, *mass_;
  QSpinBox* links_;
  int taken_ = 0;
};

}  // namespace calm::app
