// SPDX-License-Identifier: GPL-3.0-or-later
// What each panel asks for, and what it makes of it.
#include <QKeyEvent>
#include <QLineEdit>

#include "app/make/maker.h"
#include "rig/edits.h"
#include "rig/kits/line.h"

namespace calm::app {

// --- Part ---

PartMaker::PartMaker(Session& session, QWidget* parent)
    : Maker(session, tr("Part"), tr("Click in the View to put it down, or type where its centre is."),
            tr("Put it there"), parent) {
  name_ = new QLineEdit;
  name_->setPlaceholderText(tr("after its shape"));
  name_->setAccessibleName(tr("Name"));
  addRow(tr("Name"), name_);
  shape_ = addChoice(tr("Shape"), {tr("box"), tr("sphere"), tr("capsule"), tr("cylinder")});
  x_ = addField(tr("Width"), rig::Dimension::length, 0.5);
  y_ = addField(tr("Height"), rig::Dimension::length, 0.5);
  z_ = addField(tr("Depth"), rig::Dimension::length, 0.5);
  radius_ = addField(tr("Radius"), rig::Dimension::length, 0.25);
  length_ = addField(tr("Length"), rig::Dimension::length, 1);
  role_ = addChoice(tr("Role"), {tr("dynamic"), tr("static")});
  heftKind_ = addChoice(tr("Weigh by"), {tr("density"), tr("mass")});
  heft_ = addField(tr("Density"), rig::Dimension::density, 1000);
  at_ = new PointField(tr("Centre"));
  addRow(tr("Centre"), at_);
  at_->setPoint({1, 0.25, 1});
  connect(at_, &PointField::changed, this, &Maker::refresh);
  connect(heftKind_, &QComboBox::currentIndexChanged, this, [this](int kind) {
    heft_->setValue(kind == 0 ? 1000 : 10);
    heft_->setText(QString::fromStdString(kind == 0 ? "1000 kg/m^3" : "10 kg"));
    refresh();
  });
}

rig::Part PartMaker::part() const {
  constexpr double kNone = std::numeric_limits<double>::quiet_NaN();  // faultOf names it
  rig::Part p;
  p.name = name_->text().trimmed().toStdString();
  p.role = role_->currentIndex() == 0 ? Role::dynamic : Role::fixed;
  const auto value = [&](const Field* f) { return f->value().value_or(kNone); };
  if (shape_->currentIndex() == 0) p.shape = calm::Box{{value(x_), value(y_), value(z_)}};
  if (shape_->currentIndex() == 1) p.shape = calm::Sphere{value(radius_)};
  if (shape_->currentIndex() == 2) p.shape = calm::Capsule{value(radius_), value(length_)};
  if (shape_->currentIndex() == 3) p.shape = calm::Cylinder{value(radius_), value(length_)};
  const auto dimension = heftKind_->currentIndex() == 0 ? rig::Dimension::density : rig::Dimension::mass;
  const double heft = rig::parseQuantity(heft_->text().toStdString(), dimension).value_or(kNone);
  if (heftKind_->currentIndex() == 0)
    p.heft = rig::Density{heft};
  else
    p.heft = rig::Mass{heft};
  p.pose.position = at_->point().value_or(Vec3::Constant(kNone));
  return p;
}

QString PartMaker::preview(Preview& preview) {
  const int shape = shape_->currentIndex();
  for (Field* f : {x_, y_, z_}) showRow(f, shape == 0);
  showRow(radius_, shape != 0);
  showRow(length_, shape >= 2);
  showRow(heftKind_, role_->currentIndex() == 0);
  showRow(heft_, role_->currentIndex() == 0);
  rig::Rig alone;
  alone.parts.push_back(part());
  alone.parts[0].id = 1;
  alone.parts[0].name = "part";
  if (const auto faults = rig::faultsOf(alone); !faults.empty()) return QString::fromStdString(faults.front().message);
  preview.part = alone.parts[0];
  return {};
}

QString PartMaker::stepName() const {
  return tr("add part");
}
void PartMaker::apply(rig::Rig& rig) {
  made_ = {rig::addPart(rig, part())};
}

void PartMaker::take(const Pick& pick) {
  if (!pick.point) return;
  const rig::Part p = part();
  if (!faultOf(p.shape).empty()) return;
  // Rests on what was clicked.
  const double foot = p.pose.position.allFinite() ? p.pose.position.y() - boundsOf(p.shape, p.pose).low.y() : 0;
  at_->setPoint(*pick.point + Vec3(0, foot, 0));
}

// --- Joint ---

namespace {
// Those that two parts and a pivot describe; pulleys, winches and meshes need more.
}  // namespace

JointMaker::JointMaker(Session& session, QWidget* parent)
    : Maker(session, tr("Joint"),
            tr("Click two parts in the View, then a point if the pivot belongs elsewhere. T: another type, W: "
               "elsewhere, X: another axis."),
            tr("Join them"), parent) {
  QStringList types;
  for (const JointType type : kPairTypes) types << tr(rig::word(type));
  type_ = addChoice(tr("Type"), types);
  for (int i = 0; i < type_->count(); ++i)
    if (kPairTypes[i] == session.jointType()) type_->setCurrentIndex(i);
  a_ = addPartChoice(tr("First"), true);
  b_ = addPartChoice(tr("Second"), true);
  where_ = addChoice(tr("Pivot"),
                     {tr("where they meet"), tr("centre of the first"), tr("centre of the second"), tr("at a point")});
  point_ = new PointField(tr("Point"));
  addRow(tr("Point"), point_);
  axis_ = addChoice(tr("Axis"), {tr("guessed"), tr("x"), tr("y"), tr("z")});
  connect(point_, &PointField::changed, this, &Maker::refresh);
  std::vector<rig::Id> parts;
  for (rig::Id id : session.selection())
    if (session.rig().part(id)) parts.push_back(id);
  const auto set = [](QComboBox* box, rig::Id id) { box->setCurrentIndex(std::max(0, box->findData(id))); };
  if (!parts.empty()) set(a_, parts[0]), taken_ = 1;
  if (parts.size() > 1) set(b_, parts[1]), taken_ = 2;
}

Vec3 JointMaker::pivot() const {
  const rig::Rig& rig = session_.rig();
  const auto center = [&](const QComboBox* box) {
    const rig::Part* p = rig.part(idOf(box));
    return p ? p->pose.position : Vec3(Vec3::Zero());
  };
  switch (where_->currentIndex()) {
    case 0:
      return rig::likelyPivot(rig, idOf(a_), idOf(b_));
    case 1:
      return center(a_);
    case 2:
      return center(b_);
    default:
      return point_->point().value_or(Vec3::Zero());
  }
}

Vec3 JointMaker::axis() const {
  if (axis_->currentIndex() > 0) return Vec3::Unit(axis_->currentIndex() - 1);
  return rig::likelyAxis(session_.rig(), idOf(a_), idOf(b_), kPairTypes[type_->currentIndex()]);
}

QString JointMaker::preview(Preview& preview) {
  showRow(point_, where_->currentIndex() == 3);
  const JointType type = kPairTypes[type_->currentIndex()];
  const bool round = type == JointType::ball || type == JointType::fixed;
  const bool spans = type == JointType::distance || type == JointType::spring;  // between the two centres
  showRow(axis_, !round && !spans);
  preview.partners = {idOf(a_), idOf(b_)};
  if (idOf(a_) == idOf(b_)) return tr("Choose two different things to join.");
  rig::Rig trial = session_.rig();
  try {
    apply(trial);
  } catch (const std::exception& e) {
    return QString::fromStdString(e.what());
  }
  preview.pivot = pivot();
  if (!round && !spans) preview.line = {pivot() - 0.25 * axis(), pivot() + 0.25 * axis()};
  return {};
}

bool JointMaker::event(QEvent* event) {
  // The keys of this panel come before the window's shortcuts.
  if (event->type() == QEvent::ShortcutOverride && alternativesAt(static_cast<QKeyEvent*>(event)->key())) {
    event->accept();
    return true;
  }
  return Maker::event(event);
}

QComboBox* JointMaker::alternativesAt(int key) const {
  return key == Qt::Key_T ? type_ : key == Qt::Key_W ? where_ : key == Qt::Key_X ? axis_ : nullptr;
}

void JointMaker::keyPressEvent(QKeyEvent* event) {
  if (QComboBox* box = alternativesAt(event->key()))
    box->setCurrentIndex((box->currentIndex() + 1) % box->count());
  else
    Maker::keyPressEvent(event);
}

QString JointMaker::stepName() const {
  return tr("join %1 and %2").arg(a_->currentText(), b_->currentText());
}

void JointMaker::apply(rig::Rig& rig) {
  session_.setJointType(kPairTypes[type_->currentIndex()]);
  made_ = {rig::addJoint(rig, session_.jointType(), idOf(a_), idOf(b_), pivot(), axis())};
}

void JointMaker::take(const Pick& pick) {
  if (taken_ < 2) {
    QComboBox* box = taken_ == 0 ? a_ : b_;
    box->setCurrentIndex(std::max(0, box->findData(pick.part)));
    ++taken_;
    return;
  }
  if (!pick.point) return;
  where_->setCurrentIndex(3);
  point_->setPoint(*pick.point);
}

// --- Line ---

LineMaker::LineMaker(Session& session, QWidget* parent)
    : Maker(session, tr("Line"), tr("Click where it begins and where it ends, on parts or in the air."),
            tr("Make the line"), parent) {
  name_ = new QLineEdit(tr("chain"));
  name_->setAccessibleName(tr("Name"));
  addRow(tr("Name"), name_);
  fromPart_ = addPartChoice(tr("From"), true);
  from_ = new PointField(tr("From"));
  addRow(tr("at"), from_);
  toPart_ = addPartChoice(tr("To"), true);
  {
    const QSignalBlocker quiet(toPart_);
    toPart_->insertItem(1, tr("nothing (hangs free)"), -1);
  }
  to_ = new PointField(tr("To"));
  addRow(tr("at"), to_);
  length_ = addField(tr("Length"), rig::Dimension::length, 1.1);
  links_ = new QSpinBox;
  links_->setRange(1, 5000);
  links_->setValue(20);
  links_->setAccessibleName(tr("Links"));
  addRow(tr("Links"), links_);
  thickness_ = addField(tr("Thickness"), rig::Dimension::length, 0.02);
  mass_ = addField(tr("Mass"), rig::Dimension::lineMass, 4);
  from_->setPoint({1, 2, 0});
  to_->setPoint({2, 2, 0});
  for (PointField* p : {from_, to_})
    connect(p, &PointField::changed, this, [this] {
      followDistance();
      refresh();
    });
  connect(links_, &QSpinBox::valueChanged, this, &Maker::refresh);
  connect(name_, &QLineEdit::textEdited, this, &Maker::refresh);
}

// Ends further apart than the line is long need a longer line: a tenth of slack.
void LineMaker::followDistance() {
  const auto a = from_->point(), b = to_->point();
  const auto length = length_->value();
  if (a && b && length && *length < (*b - *a).norm()) length_->setValue(1.1 * (*b - *a).norm());
}

rig::LineChoices LineMaker::choices() const {
  constexpr double kNone = std::numeric_limits<double>::quiet_NaN();
  rig::LineChoices c;
  c.name = name_->text().trimmed().toStdString();
  c.from = {from_->point().value_or(Vec3::Constant(kNone)), fromPart_->currentData().toInt(), true};
  const int to = toPart_->currentData().toInt();
  c.to = {to_->point().value_or(Vec3::Constant(kNone)), to < 0 ? rig::kNone : to, to >= 0};
  c.length = length_->value().value_or(kNone);
  c.links = links_->value();
  c.thickness = thickness_->value().value_or(kNone);
  c.massPerMetre = mass_->value().value_or(kNone);
  return c;
}

QString LineMaker::preview(Preview& preview) {
  const rig::LineChoices c = choices();
  if (const std::string fault = rig::faultOf(c); !fault.empty()) return QString::fromStdString(fault);
  preview.line = rig::lineCorners(c, session_.rig().stage.gravity);
  return {};
}

QString LineMaker::stepName() const {
  return tr("make line %1").arg(name_->text());
}
void LineMaker::apply(rig::Rig& rig) {
  made_ = {rig::makeLine(rig, choices())};
}

void LineMaker::take(const Pick& pick) {
  if (!pick.point) return;
  QComboBox* part = taken_ % 2 == 0 ? fromPart_ : toPart_;
  PointField* point = taken_ % 2 == 0 ? from_ : to_;
  part->setCurrentIndex(std::max(0, part->findData(pick.part)));
  point->setPoint(*pick.point);
  ++taken_;
}

}  // namespace calm::app
