// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/make/cue.h"

#include "app/look/look.h"
#include "rig/edits.h"

namespace calm::app {

namespace {

using Act = rig::Cue::Act;
using When = rig::Trigger::Kind;

rig::Dimension vectorOf(Act act) {
  switch (act) {
    case Act::push:
      return rig::Dimension::force;
    case Act::gravity:
      return rig::Dimension::acceleration;
    case Act::gust:
    case Act::ball:
      return rig::Dimension::speed;
    default:
      return rig::Dimension::number;
  }
}

bool hasVector(Act act) {
  return act == Act::impulse || act == Act::push || act == Act::gust || act == Act::ball || act == Act::gravity;
}

bool isOfJoint(Act act) {
  return act == Act::arm || act == Act::disarm || act == Act::cut || act == Act::make || act == Act::axis;
}

bool isOfPart(Act act) {
  return act == Act::impulse || act == Act::push || act == Act::pull || act == Act::role;
}

// What is typed; the present value where nothing is.
double typed(const QLineEdit* field, rig::Dimension dimension, double present) {
  QString text = field->text().trimmed();
  if (text.isEmpty()) return present;
  // The only numbers with a unit of their own here are impulses.
  if (dimension == rig::Dimension::number && text.endsWith("N s")) text.chop(3);
  const auto value = rig::parseQuantity(text.trimmed().toStdString(), dimension);
  if (!value)
    throw std::invalid_argument(QObject::tr("\"%1\" is no such quantity; type for example %2")
                                    .arg(field->text(), QString::fromStdString(rig::formatQuantity(2, dimension)))
                                    .toStdString());
  return *value;
}

}  // namespace

QLineEdit* CueMaker::addLine(const QString& label, const QString& none) {
  auto* field = new QLineEdit;
  field->setAccessibleName(label);
  field->setPlaceholderText(none);
  addRow(label, field);
  connect(field, &QLineEdit::textEdited, this, &Maker::refresh);
  return field;
}

CueMaker::CueMaker(Session& session, double time, double lasts, QWidget* parent)
    : Maker(session, tr("Cue"), tr("What happens in the run, and when. Click parts and joints to name them."),
            tr("Set the cue"), parent) {
  if (const rig::Cue* chosen = session.rig().cue(session.selected())) {
    was_ = *chosen;
  } else {
    was_.when.at = time;
    was_.lasts = lasts > 0 ? lasts : 1;
    if (lasts > 0) was_.act = Act::push;
    was_.vector = {100, 0, 0};
    for (const rig::Part& p : session.rig().parts)
      if (p.role == Role::dynamic) was_.part = p.id;
    if (session.rig().part(session.selected())) was_.part = session.selected();
    if (session.rig().joint(session.selected())) {
      was_.joint = session.selected();
      if (lasts == 0) was_.act = Act::cut;
    }
  }
  act_ = addChoice(tr("What"), {});
  for (const auto& [act, word] : rig::kCueWords) {
    // What a hand did cannot be typed; it is there to be kept.
    const bool byHand = act == Act::pull || act == Act::probe;
    if (!byHand || act == was_.act) act_->addItem(tr(word), static_cast<int>(act));
  }
  const auto narrow = [](QComboBox* box) {
    box->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
    return box;
  };
  part_ = narrow(addPartChoice(tr("Part"), false));
  joint_ = narrow(addChoice(tr("Joint"), {}));
  for (const rig::Joint& j : session.rig().joints) joint_->addItem(QString::fromStdString(j.name), j.id);
  axis_ = addChoice(tr("Axis"), {});
  role_ = addChoice(tr("Becomes"), {tr("static"), tr("kinematic"), tr("dynamic")});
  field_ = addChoice(tr("Field"), {});
  for (std::size_t i = 0; i < session.rig().fields.size(); ++i) field_->addItem(tr("field %1").arg(i + 1));
  share_ = addField(tr("To, %"), rig::Dimension::number, 100 * was_.share);
  x_ = addLine(tr("Along x"), "0");
  y_ = addLine(tr("Along y"), "0");
  z_ = addLine(tr("Along z"), "0");
  addRow(tr("At"), place_ = new PointField(tr("At")));
  connect(place_, &PointField::changed, this, &Maker::refresh);
  motor_ = addChoice(tr("Motor"), {tr("as it is"), tr("off"), tr("runs")});
  speed_ = addLine(tr("At speed"), tr("as it is"));
  strength_ = addLine(tr("With at most"), tr("as it is"));
  target_ = addLine(tr("Spring to"), tr("as it is"));
  low_ = addLine(tr("Low stop"), tr("as it is"));
  high_ = addLine(tr("High stop"), tr("as it is"));
  mass_ = addField(tr("Mass"), rig::Dimension::mass, was_.mass);
  radius_ = addField(tr("Radius"), rig::Dimension::length, was_.radius);
  cap_ = addField(tr("At most"), rig::Dimension::force, was_.cap);
  lasts_ = addField(tr("Within"), rig::Dimension::time, was_.lasts);
  when_ = addChoice(tr("When"), {tr("at a time"), tr("a joint has parted"), tr("a reading passes"),
                                 tr("a reading falls below"), tr("a part touches")});
  at_ = addField(tr("Time"), rig::Dimension::time, was_.when.at);
  of_ = narrow(addChoice(tr("Of"), {}));
  reading_ = narrow(addChoice(tr("Reading"), {}));
  by_ = narrow(addPartChoice(tr("Touches"), true));
  by_->setItemText(0, tr("anything"));
  value_ = addLine(tr("Value"), "0");
  delay_ = addField(tr("Then after"), rig::Dimension::time, was_.when.delay);
  show(was_);
  connect(of_, &QComboBox::currentIndexChanged, this, &CueMaker::listReadings);
  connect(when_, &QComboBox::currentIndexChanged, this, &CueMaker::listReadings);
  connect(joint_, &QComboBox::currentIndexChanged, this, &CueMaker::listAxes);
  connect(act_, &QComboBox::currentIndexChanged, this, [this] {
    showVector();
    refresh();
  });
  ready_ = true;
}

void CueMaker::show(const rig::Cue& c) {
  for (QObject* box : std::initializer_list<QObject*>{act_, when_, of_, reading_, part_, joint_, axis_})
    box->blockSignals(true);
  act_->setCurrentIndex(std::max(0, act_->findData(static_cast<int>(c.act))));
  part_->setCurrentIndex(std::max(0, part_->findData(c.part)));
  joint_->setCurrentIndex(std::max(0, joint_->findData(c.joint)));
  listAxes();
  axis_->setCurrentIndex(c.axisNumber);
  showAxis(c);
  role_->setCurrentIndex(static_cast<int>(c.role));
  field_->setCurrentIndex(c.field);
  showVector();
  place_->setPoint(c.point);
  when_->setCurrentIndex(static_cast<int>(c.when.kind));
  const rig::Reading& r = c.when.reading;
  listReadings();
  of_->setCurrentIndex(
      std::max(0, of_->findData(c.when.kind == When::parted || c.when.kind == When::touch ? c.when.of : r.of)));
  listReadings();
  for (std::size_t i = 0; i < readings_.size(); ++i)
    if (readings_[i] == r) reading_->setCurrentIndex(int(i));
  by_->setCurrentIndex(std::max(0, by_->findData(c.when.other)));
  if (c.when.kind == When::above || c.when.kind == When::below)
    value_->setText(look::words(c.when.value, rig::dimensionOf(r, session_.rig()), 6));
  for (QObject* box : std::initializer_list<QObject*>{act_, when_, of_, reading_, part_, joint_, axis_})
    box->blockSignals(false);
}

// In the unit of what is chosen.
void CueMaker::showVector() {
  const auto act = static_cast<Act>(act_->currentData().toInt());
  const QString unit = act == Act::impulse ? QStringLiteral(" N s") : QString();
  QLineEdit* along[] = {x_, y_, z_};
  for (int i = 0; i < 3; ++i) along[i]->setText(look::words(was_.vector[i], vectorOf(act), 6) + unit);
}

void CueMaker::listAxes() {
  const QSignalBlocker quiet(axis_);
  axis_->clear();
  const rig::Joint* joint = session_.rig().joint(joint_->currentData().toInt());
  for (int k = 0; joint && k < axesOf(joint->type).all(); ++k)
    axis_->addItem(*rig::axisWord(joint->type, k) ? tr(rig::axisWord(joint->type, k)) : tr("mesh"));
}

// What the condition is of: parts, joints or both, and what can be read of it.
void CueMaker::listReadings() {
  const auto kind = static_cast<When>(when_->currentIndex());
  const QSignalBlocker quiet(of_), still(reading_);
  const int present = of_->currentData().toInt();
  const int chosen = reading_->currentIndex();
  of_->clear();
  const bool ofReading = kind == When::above || kind == When::below;
  if (ofReading) of_->addItem(tr("all of it"), rig::kNone);
  if (kind != When::touch)
    for (const rig::Joint& j : session_.rig().joints) of_->addItem(QString::fromStdString(j.name), j.id);
  if (kind == When::touch || ofReading)
    for (const rig::Part& p : session_.rig().parts) of_->addItem(QString::fromStdString(p.name), p.id);
  of_->setCurrentIndex(std::max(0, of_->findData(present)));
  readings_ = rig::readingsOf(of_->currentData().toInt(), session_.rig(), true);
  reading_->clear();
  for (const rig::Reading& r : readings_)
    reading_->addItem(QString::fromStdString(rig::textOf(r, session_.rig())).section(" of ", 0, 0));
  reading_->setCurrentIndex(chosen >= 0 && chosen < reading_->count() ? chosen : 0);
}

rig::Trigger CueMaker::trigger() const {
  rig::Trigger t;
  t.kind = static_cast<When>(when_->currentIndex());
  t.at = at_->value().value_or(-1);
  t.delay = t.kind == When::time ? 0 : delay_->value().value_or(-1);
  if (t.kind == When::parted || t.kind == When::touch) t.of = of_->currentData().toInt();
  if (t.kind == When::touch) t.other = by_->currentData().toInt();
  if (t.kind != When::above && t.kind != When::below) return t;
  if (reading_->currentIndex() < 0) throw std::invalid_argument("choose a reading");
  t.reading = readings_[static_cast<std::size_t>(reading_->currentIndex())];
  t.value = typed(value_, rig::dimensionOf(t.reading, session_.rig()), 0);
  return t;
}

rig::Cue CueMaker::cue() const {
  rig::Cue c = was_;
  c.act = static_cast<Act>(act_->currentData().toInt());
  c.when = trigger();
  c.part = isOfPart(c.act) ? part_->currentData().toInt() : rig::kNone;
  c.joint = isOfJoint(c.act) ? joint_->currentData().toInt() : rig::kNone;
  c.role = static_cast<Role>(role_->currentIndex());
  c.lasts = lasts_->value().value_or(-1);
  if (c.act == Act::impulse || c.act == Act::cut || c.act == Act::arm || c.act == Act::disarm || c.act == Act::ball)
    c.lasts = 0;
  if (hasVector(c.act)) {
    const rig::Dimension d = vectorOf(c.act);
    c.vector = {typed(x_, d, 0), typed(y_, d, 0), typed(z_, d, 0)};
  }
  if (const auto at = place_->point()) c.point = *at;
  c.mass = mass_->value().value_or(-1);
  c.radius = radius_->value().value_or(-1);
  c.cap = cap_->value().value_or(-1);
  c.field = std::max(0, field_->currentIndex());
  c.share = share_->value().value_or(NAN) / 100;
  if (c.act != Act::axis) return c;
  const rig::Joint* joint = session_.rig().joint(c.joint);
  if (!joint || axis_->currentIndex() < 0) throw std::invalid_argument("choose a joint with a free axis");
  c.axisNumber = axis_->currentIndex();
  const bool same = was_.act == Act::axis && was_.joint == c.joint && was_.axisNumber == c.axisNumber;
  if (!same) c.axis = {};
  for (const AxisField& f : axisFields(rig::axisTurns(joint->type, c.axisNumber))) {
    const double none = AxisDef{}.*f.number;
    if (f.line->text().trimmed().isEmpty() || (f.ofMotor && motor_->currentIndex() != 2))
      c.axis.leave(f.number);
    else if (std::isinf(none) && f.line->text().trimmed() == tr("none"))
      c.axis.set(f.number, none);
    else
      c.axis.set(f.number, typed(f.line, f.dimension, 0));
  }
  if (motor_->currentIndex() == 1) c.axis.set(&AxisDef::cap, 0);
  return c;
}

// What can be typed of an axis that travels or turns.
std::array<CueMaker::AxisField, 5> CueMaker::axisFields(bool turns) const {
  using rig::Dimension;
  const Dimension place = turns ? Dimension::angle : Dimension::length;
  return {{{speed_, &AxisDef::speed, turns ? Dimension::turnRate : Dimension::speed, true},
           {strength_, &AxisDef::cap, turns ? Dimension::torque : Dimension::force, true},
           {target_, &AxisDef::target, place, false},
           {low_, &AxisDef::low, place, false},
           {high_, &AxisDef::high, place, false}}};
}

void CueMaker::showAxis(const rig::Cue& c) {
  const rig::Joint* joint = session_.rig().joint(c.joint);
  if (c.act != Act::axis || !joint) return;
  for (const AxisField& f : axisFields(rig::axisTurns(joint->type, c.axisNumber)))
    if (const auto value = c.axis.value(f.number))
      f.line->setText(std::isfinite(*value) ? look::words(*value, f.dimension, 6) : tr("none"));
  const auto strength = c.axis.value(&AxisDef::cap);
  const bool off = strength == 0, runs = strength || c.axis.value(&AxisDef::speed);
  motor_->setCurrentIndex(off ? 1 : runs ? 2 : 0);
}

QString CueMaker::preview(Preview&) {
  if (!ready_) return {};
  const Act act = static_cast<Act>(act_->currentData().toInt());
  const auto when = static_cast<When>(when_->currentIndex());
  const bool ofReading = when == When::above || when == When::below, hand = act == Act::pull || act == Act::probe;
  showRow(part_, isOfPart(act));
  showRow(joint_, isOfJoint(act));
  showRow(role_, act == Act::role);
  showRow(field_, act == Act::field);
  showRow(share_, act == Act::field);
  for (QWidget* along : {x_, y_, z_}) showRow(along, hasVector(act));
  showRow(place_, act == Act::impulse || act == Act::push || act == Act::ball);
  for (QWidget* ofAxis : std::initializer_list<QWidget*>{axis_, motor_, target_, low_, high_})
    showRow(ofAxis, act == Act::axis);
  showRow(speed_, act == Act::axis && motor_->currentIndex() == 2);
  showRow(strength_, act == Act::axis && motor_->currentIndex() == 2);
  showRow(mass_, act == Act::ball || act == Act::probe);
  showRow(radius_, act == Act::ball || act == Act::probe);
  showRow(cap_, hand);
  showRow(lasts_, act == Act::push || act == Act::gust || act == Act::role || act == Act::make || act == Act::axis ||
                      act == Act::gravity || act == Act::field);
  showRow(at_, when == When::time);
  showRow(of_, when != When::time);
  showRow(reading_, ofReading);
  showRow(value_, ofReading);
  showRow(by_, when == When::touch);
  showRow(delay_, when != When::time);
  try {
    return QString::fromStdString(rig::faultOf(cue(), session_.rig()));
  } catch (const std::exception& e) {
    return QString::fromStdString(e.what());
  }
}

QString CueMaker::stepName() const {
  const QString text = QString::fromStdString(rig::textOf(cue(), session_.rig()));
  return was_.id == rig::kNone ? tr("cue: %1").arg(text) : tr("change cue: %1").arg(text);
}

void CueMaker::apply(rig::Rig& rig) {
  const rig::Cue now = cue();
  if (was_.id == rig::kNone) {
    made_ = {rig::addCue(rig, now)};
    return;
  }
  *rig.cue(was_.id) = now;
  made_ = {was_.id};
}

void CueMaker::take(const Pick& pick) {
  if (pick.joint != rig::kNone) joint_->setCurrentIndex(std::max(0, joint_->findData(pick.joint)));
  if (pick.part != rig::kNone) part_->setCurrentIndex(std::max(0, part_->findData(pick.part)));
}

}  // namespace calm::app
