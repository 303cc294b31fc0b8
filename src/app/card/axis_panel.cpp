// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/card/axis_panel.h"

#include <QFormLayout>
#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>

#include "app/card/field.h"
#include "app/dials/axis_dial.h"
#include "app/dials/plots.h"
#include "app/look/look.h"
#include "rig/posing.h"

namespace calm::app {

AxisPanel::AxisPanel(Session& session, const std::vector<rig::Id>& joints, int k, QWidget* parent)
    : QWidget(parent), session_(session), joints_(joints), k_(k) {
  const rig::Joint& first = *session.rig().joint(joints.front());
  const bool turns = rig::axisTurns(first.type, k);
  word_ = rig::axisWord(first.type, k);
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(0, 2, 0, 2);
  column->setSpacing(4);
  auto* head = new QHBoxLayout;
  auto* title = new QLabel(word_.left(1).toUpper() + word_.mid(1));
  title->setFont(look::font(look::Size::text, true));
  now_ = new QLabel;
  now_->setAlignment(Qt::AlignRight);
  head->addWidget(title);
  head->addWidget(now_, 1);
  column->addLayout(head);
  dial_ = new AxisDial(turns);
  dial_->setAccessibleName(tr("Stops of %1").arg(word_));
  const AxisDef& axis = axisOf(joints.front());
  dial_->setStops(axis.low, axis.high);
  column->addWidget(dial_);
  connect(dial_, &AxisDial::chosen, this,
          [this](double low, double high) { set(tr("drag stop"), [=](AxisDef& a) { a.low = low, a.high = high; }); });
  connect(dial_, &AxisDial::dragging, this, [this, turns](double low, double high) {
    const auto words = [&](double v) {
      return std::isfinite(v) ? QString::fromStdString(
                                    rig::formatQuantity(v, turns ? rig::Dimension::angle : rig::Dimension::length, 4))
                              : tr("free");
    };
    now_->setText(tr("%1 to %2").arg(words(low), words(high)));
  });
  if (joints.size() == 1) addTry();
  form_ = addForm(column);
  using rig::Dimension;
  const auto either = [&](Dimension travel, Dimension turn) { return turns ? turn : travel; };
  const Dimension place = either(Dimension::length, Dimension::angle);
  const Dimension effort = either(Dimension::force, Dimension::torque);
  const Dimension rate = either(Dimension::speed, Dimension::turnRate);
  const Dimension stiff = either(Dimension::stiffness, Dimension::turnStiffness);
  const Dimension damp = either(Dimension::damping, Dimension::turnDamping);
  addField(tr("Low stop"), &AxisDef::low, place, -kNoLimit, tr("none"));
  addField(tr("High stop"), &AxisDef::high, place, kNoLimit, tr("none"));
  // What the rope of a winch is not: see faultOf.
  const bool winch = first.type == JointType::winch;
  if (axis.hasStops() && !winch) {
    addField(tr("Stop stiffness"), &AxisDef::stopStiffness, stiff, 0, tr("hard"));
    if (axis.hasSoftStops())
      addField(tr("Stop damping"), &AxisDef::stopDamping, damp, 0, tr("none"));
    else
      addField(tr("Stop rebound"), &AxisDef::restitution, Dimension::number, 0, tr("none"));
  }
  form_ = addFold(tr("Motor, friction, spring"), axis.hasDrive() || axis.hasSpring() || axis.frequency > 0);
  addField(tr("Motor speed"), &AxisDef::speed, rate, 0, tr("still"));
  addField(tr("Motor strength"), &AxisDef::cap, effort, 0, tr("no motor"));
  if (!winch) addField(tr("Friction"), &AxisDef::friction, effort, 0, tr("none"));
  addField(tr("Spring target"), &AxisDef::target, place, 0, tr("zero"));
  if (axis.stiffness > 0 || axis.damping > 0) {
    addField(tr("Stiffness"), &AxisDef::stiffness, stiff, 0, tr("none"));
    addField(tr("Damping"), &AxisDef::damping, damp, 0, tr("none"));
  } else {
    addField(tr("Spring frequency"), &AxisDef::frequency, Dimension::frequency, 0, tr("no spring"));
    if (axis.frequency > 0) addField(tr("Damping ratio"), &AxisDef::dampingRatio, Dimension::number, 0, tr("none"));
  }
  if (axis.hasSpring() || axis.frequency > 0)
    addField(tr("Spring strength"), &AxisDef::springCap, effort, kNoLimit, tr("unlimited"));
  if (joints.size() == 1) {
    addSpring(axis);
    addMotor(axis, turns);
  }
  refresh();
}

// The step response, and the other way of giving the same spring.
void AxisPanel::addSpring(const AxisDef& axis) {
  const auto response = run::springResponse(session_.rig(), joints_[0], k_);
  if (!response) return;
  auto* plot = new StepPlot(*response);
  auto* words = new QLabel(plot->words());
  words->setObjectName("springWords");
  words->setWordWrap(true);
  words->setFont(look::font(look::Size::small));
  words->setProperty("muted", true);
  form_->addRow(plot);
  form_->addRow(words);
  const bool byFrequency = axis.frequency > 0;
  auto* button = new QPushButton(byFrequency ? tr("Give it by stiffness") : tr("Give it by frequency"));
  button->setAccessibleName(tr("%1, %2").arg(button->text(), word_));
  form_->addRow(button);
  connect(button, &QPushButton::clicked, this, [this, byFrequency, r = *response] {
    const auto mass = run::inertiaAlong(session_.rig(), joints_[0], k_);
    if (!mass) return;
    const double omega = 2 * M_PI * r.frequency;
    set(tr("give the spring"), [=](AxisDef& a) {
      a.stiffness = byFrequency ? *mass * omega * omega : 0;
      a.damping = byFrequency ? 2 * r.dampingRatio * *mass * omega : 0;
      a.frequency = byFrequency ? 0 : r.frequency;
      a.dampingRatio = byFrequency ? 0 : r.dampingRatio;
    });
  });
}

// The motor's envelope, and a test of it for as long as the button is down: not an edit, and nothing else is changed.
void AxisPanel::addMotor(const AxisDef& axis, bool turns) {
  if (!(axis.cap > 0)) return;
  envelope_ = new EnvelopePlot(axis, turns);
  envelopeWords_ = new QLabel;
  envelopeWords_->setObjectName("motorWords");
  envelopeWords_->setFont(look::font(look::Size::small));
  envelopeWords_->setProperty("muted", true);
  form_->addRow(envelope_);
  form_->addRow(envelopeWords_);
  auto* row = new QWidget;
  auto* line = new QHBoxLayout(row);
  line->setContentsMargins(0, 0, 0, 0);
  for (const double way : {-1.0, 1.0}) {
    auto* button = new QPushButton(way < 0 ? tr("Hold: back") : tr("Hold: on"));
    button->setAccessibleName(tr("%1, %2").arg(button->text(), word_));
    button->setToolTip(tr("Runs the motor for as long as it is held; the rig stays as it is"));
    line->addWidget(button);
    const rig::Id id = joints_[0];
    connect(button, &QPushButton::pressed, this, [this, id, way] {
      session_.beginTrial([&](rig::Rig& rig) {
        AxisDef& tried = rig.joint(id)->axes[k_];
        const double speed = tried.speed != 0 ? std::abs(tried.speed) : 1;
        tried.speed = way * speed;
      });
    });
    connect(button, &QPushButton::released, &session_, &Session::endTrial);
  }
  form_->addRow(row);
}

void AxisPanel::endTry() {
  if (!triedAt_) return;
  triedAt_.reset();
  session_.preview().moved.clear();
  session_.previewChanged();
}

// Moving the joint by hand through what it allows, without a run; and teaching it its stops that way.
void AxisPanel::addTry() {
  auto* row = new QWidget;
  auto* line = new QHBoxLayout(row);
  line->setContentsMargins(0, 0, 0, 0);
  auto* button = new QPushButton(tr("Try the range"));
  button->setCheckable(true);
  button->setAccessibleName(tr("Try the range of %1").arg(word_));
  line->addWidget(button);
  line->addStretch();
  layout()->addWidget(row);
  std::array<QPushButton*, 2> teach{};
  for (const bool high : {false, true}) {
    auto* b = teach[high] = new QPushButton(high ? tr("High here") : tr("Low here"));
    b->setToolTip(tr("Put the stop where the joint is now"));
    b->setAccessibleName(tr("%1, %2").arg(b->text(), word_));
    b->hide();
    line->addWidget(b);
    connect(b, &QPushButton::clicked, this, [this, high] {
      if (!triedAt_) return;
      const double value = *triedAt_;
      set(tr("teach stop"), [=](AxisDef& a) { (high ? a.high : a.low) = value; });
    });
  }
  connect(button, &QPushButton::toggled, this, [=, this](bool on) {
    for (QPushButton* b : teach) b->setVisible(on);
    dial_->setTrying(on);
    endTry();
    session_.setPlaying(false);
    session_.reset();
    if (on) tryAt(rig::restCoordinate(session_.rig(), *session_.rig().joint(joints_[0]), k_).value_or(0));
  });
  connect(dial_, &AxisDial::tried, this, &AxisPanel::tryAt);
  connect(&session_, &Session::rigChanged, this, &AxisPanel::endTry);
  connect(&session_, &Session::selectionChanged, this, &AxisPanel::endTry);
}

void AxisPanel::tryAt(double value) {
  const rig::Rig& rig = session_.rig();
  const rig::Joint& joint = *rig.joint(joints_[0]);
  try {
    session_.preview().moved.clear();
    const double rest = rig::restCoordinate(rig, joint, k_).value_or(0);
    for (const auto& [id, pose] : rig::posedAt(rig, joint.id, k_, value - rest)) {
      rig::Part part = *rig.part(id);
      part.pose = pose;
      session_.preview().moved.push_back(part);
    }
    triedAt_ = value;
    session_.previewChanged();
  } catch (const std::exception& e) {
    emit session_.message(QString::fromStdString(e.what()), true);
  }
}

QFormLayout* AxisPanel::addForm(QVBoxLayout* column) {
  auto* form = new QFormLayout;
  form->setHorizontalSpacing(8);
  form->setVerticalSpacing(3);
  column->addLayout(form);
  return form;
}

// Fields that are folded away while nothing in them is set, unless the user has unfolded such ones.
QFormLayout* AxisPanel::addFold(const QString& title, bool used) {
  const char* kShown = "drivesShown";
  auto* button = new QPushButton;
  auto* fold = new QWidget;
  auto* column = new QVBoxLayout(fold);
  column->setContentsMargins(0, 0, 0, 0);
  const auto show = [=](bool shown) {
    fold->setVisible(shown);
    button->setText(shown ? tr("%1 \u2212").arg(title) : tr("%1 +").arg(title));
  };
  button->setAccessibleName(tr("%1 of %2").arg(title, word_));
  button->setFlat(true);
  button->setStyleSheet(QString("border: none; text-align: left; padding: 2px 0; color: %1").arg(look::kTeal.name()));
  layout()->addWidget(button);
  layout()->addWidget(fold);
  show(used || session_.property(kShown).toBool());
  connect(button, &QPushButton::clicked, this, [=, this] {
    const bool shown = !fold->isVisible();
    session_.setProperty(kShown, shown);
    show(shown);
  });
  return addForm(column);
}

void AxisPanel::set(const QString& what, const std::function<void(AxisDef&)>& change) {
  session_.editEach(what, joints_, [change, k = k_, word = word_.toStdString()](rig::Rig& rig, rig::Id id) {
    rig::Joint* joint = rig.joint(id);
    if (!joint) return;
    if (k >= axesOf(joint->type).all()) throw std::invalid_argument("joint \"" + joint->name + "\" has no such axis");
    change(joint->axes[k]);
    const std::string fault = faultOf(joint->axes[k]);
    if (!fault.empty()) throw std::invalid_argument("joint \"" + joint->name + "\", " + word + ": " + fault);
  });
}

void AxisPanel::addField(const QString& label, double AxisDef::*member, rig::Dimension dimension, double none,
                         const QString& noneWord) {
  const double present = axisOf(joints_.front()).*member;
  const bool differ =
      std::any_of(joints_.begin(), joints_.end(), [&](rig::Id id) { return axisOf(id).*member != present; });
  auto* field = new Field(dimension, 0);
  field->setMaySayNothing(true);
  if (differ || present == none)
    field->clear();
  else
    field->setValue(present);
  field->setPlaceholderText(differ ? tr("they differ") : noneWord);
  field->setAlignment(Qt::AlignRight);
  field->setAccessibleName(tr("%1 of %2").arg(label, word_));
  auto* caption = new QLabel(label);
  caption->setProperty("muted", true);
  form_->addRow(caption, field);
  const QString before = field->text();
  connect(field, &QLineEdit::editingFinished, this, [=, this] {
    if (field->text() == before) return;
    const auto value = field->text().trimmed().isEmpty() ? std::optional(none) : field->value();
    if (!value) {
      emit session_.message(tr("\"%1\" is no value for %2; type for example %3")
                                .arg(field->text(), label.toLower(),
                                     QString::fromStdString(rig::formatQuantity(
                                         dimension == rig::Dimension::angle ? 1.5708 : 2, dimension))),
                            true);
      field->setText(before);
      return;
    }
    set(tr("set %1").arg(label.toLower()), [=](AxisDef& axis) { axis.*member = *value; });
  });
}

void AxisPanel::refresh() {
  const run::Frame* frame = session_.frame();
  if (!frame || joints_.size() != 1) return;
  if (triedAt_) {
    const bool turns = rig::axisTurns(session_.rig().joint(joints_[0])->type, k_);
    const auto dimension = turns ? rig::Dimension::angle : rig::Dimension::length;
    return now_->setText(tr("tried at %1").arg(QString::fromStdString(rig::formatQuantity(*triedAt_, dimension, 3))));
  }
  const auto& joints = session_.rig().joints;
  const auto index = static_cast<std::size_t>(session_.rig().joint(joints_[0]) - joints.data());
  const run::Recording& recording = *session_.recording();
  if (sweptFrames_ > recording.size()) sweptFrames_ = 0, swept_.reset();
  for (; sweptFrames_ < recording.size(); ++sweptFrames_) {
    const double q = recording.frame(sweptFrames_).joints[index].position[k_];
    swept_ = swept_ ? std::pair(std::min(swept_->first, q), std::max(swept_->second, q)) : std::pair(q, q);
  }
  if (envelope_ && recording.size() != trailFrames_) {
    trailFrames_ = recording.size();
    std::vector<QPointF> trail;
    for (std::size_t f = 1; f < recording.size(); ++f) {
      const run::Frame &before = recording.frame(f - 1), &now = recording.frame(f);
      const double rate =
          (now.joints[index].position[k_] - before.joints[index].position[k_]) / (now.time - before.time);
      trail.emplace_back(rate, now.joints[index].effort[k_]);
    }
    envelope_->setTrail(std::move(trail));
    envelopeWords_->setText(envelope_->words());
  }
  const double q = frame->joints[index].position[k_];
  dial_->setReading(q, swept_);
  const bool turns = rig::axisTurns(joints[index].type, k_);
  QString text =
      QString::fromStdString(rig::formatQuantity(q, turns ? rig::Dimension::angle : rig::Dimension::length, 3));
  const unsigned activity = frame->joints[index].activity[k_];
  if (activity & (kAtLowStop | kAtHighStop)) text += tr(", at its stop");
  if (activity & kMotorAtCap) text += tr(", motor at its strength");
  if (activity & kSpringAtCap) text += tr(", spring at its strength");
  now_->setText(text);
}

}  // namespace calm::app
