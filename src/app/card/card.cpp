// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/card/card.h"

#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QVBoxLayout>

#include "app/card/field.h"
#include "app/card/group_panel.h"
#include "app/card/joint_panel.h"
#include "app/card/mass_panel.h"
#include "app/card/part_panel.h"
#include "app/card/stage_panel.h"
#include "app/card/strength_gauge.h"
#include "app/look/look.h"
#include "rig/edits.h"
#include "rig/joining.h"
#include "run/compare.h"
#include "run/expect.h"

namespace calm::app {

namespace {
// Below a nanometre a separation is round-off.
QString separationWords(double separation) {
  if (separation < 1e-9) return QStringLiteral("< 1 nm");
  return QString::fromStdString(rig::formatQuantity(separation, rig::Dimension::length));
}
}  // namespace

Card::Card(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
  setFixedWidth(look::kCardWidth);
  setAccessibleName(tr("Card"));
  auto* layout = new QVBoxLayout(this);
  layout->setContentsMargins(0, 0, 0, 0);
  connect(&session_, &Session::selectionChanged, this, &Card::rebuild);
  connect(&session_, &Session::rigChanged, this, &Card::rebuild);
  connect(&session_, &Session::changed, this, &Card::refresh);
  rebuild();
}

void Card::rebuild() {
  const rig::Rig& rig = session_.rig();
  QString focused;  // by name, since what has it now goes
  if (content_) {
    if (QWidget* holder = content_->focusWidget(); holder && holder->hasFocus()) focused = holder->accessibleName();
    // A control of the old content may be the sender and must outlive its signal; losing the focus is no edit.
    for (QLineEdit* edit : content_->findChildren<QLineEdit*>()) edit->blockSignals(true);
    content_->hide();
    content_->deleteLater();
  }
  name_ = nullptr;
  forceGauge_ = torqueGauge_ = nullptr;
  jointPanel_ = nullptr;
  verdicts_.clear();
  verdictsKnown_.reset();
  begunNow_ = putIn_ = nullptr;
  foretold_ = forceNow_ = torqueNow_ = separationNow_ = peaks_ = speedNow_ = placeNow_ = energyNow_ = costNow_ =
      nullptr;
  content_ = new QWidget(this);
  column_ = new QVBoxLayout(content_);
  column_->setContentsMargins(look::kMargin, look::kMargin, look::kMargin, look::kMargin);
  column_->setSpacing(7);
  layout()->addWidget(content_);
  const rig::Id id = session_.selected();
  if (const rig::Joint* joint = rig.joint(id))
    buildJoint(*joint);
  else if (const rig::Part* part = rig.part(id))
    buildPart(*part);
  else if (const rig::Group* group = rig.group(id))
    buildGroup(*group);
  else if (const rig::Cue* cue = rig.cue(id))
    buildCue(*cue);
  else if (session_.selection().size() > 1)
    buildMany();
  else
    buildStage();
  column_->addStretch();
  refresh();
  for (QWidget* widget : content_->findChildren<QWidget*>())
    if (!focused.isEmpty() && widget->accessibleName() == focused) return widget->setFocus();
}

void Card::buildHeader(const QString& kind, const QString& about) {
  const rig::Id id = session_.selected();
  const rig::Rig& rig = session_.rig();
  const std::string present = rig.part(id)    ? rig.part(id)->name
                              : rig.joint(id) ? rig.joint(id)->name
                                              : rig.group(id)->name;
  name_ = new QLineEdit(QString::fromStdString(present));
  name_->setFont(look::font(look::Size::heading, true));
  name_->setAccessibleName(tr("Name"));
  connect(name_, &QLineEdit::editingFinished, this, [this, id, present] {
    const std::string typed = name_->text().trimmed().toStdString();
    if (typed == present) return;
    const QString step = tr("rename %1").arg(QString::fromStdString(present));
    if (!session_.edit(step, [&](rig::Rig& r) { rig::rename(r, id, typed); }))
      name_->setText(QString::fromStdString(present));
  });
  column_->addWidget(name_);
  auto* label = new QLabel(QString("%1   %2").arg(kind, about));
  label->setFont(look::font(look::Size::text));
  label->setProperty("muted", true);
  label->setWordWrap(true);
  column_->addWidget(label);
  rule();
}

void Card::rule() {
  auto* line = new QFrame;
  line->setFixedHeight(1);
  line->setStyleSheet(QString("background: %1").arg(look::kHairline.name()));
  column_->addSpacing(3);
  column_->addWidget(line);
  column_->addSpacing(3);
}

void Card::heading(const QString& text) {
  auto* label = new QLabel(text);
  label->setFont(look::font(look::Size::text, true));
  column_->addWidget(label);
}

QLabel* Card::reading(const QString& title) {
  auto* row = new QWidget;
  auto* layout = new QHBoxLayout(row);
  layout->setContentsMargins(0, 0, 0, 0);
  auto* left = new QLabel(title);
  left->setProperty("muted", true);
  auto* right = new QLabel;
  right->setAlignment(Qt::AlignRight);
  layout->addWidget(left);
  layout->addWidget(right, 1);
  column_->addWidget(row);
  return right;
}

std::optional<std::size_t> Card::jointIndex() const {
  const auto& joints = session_.rig().joints;
  for (std::size_t j = 0; j < joints.size(); ++j)
    if (joints[j].id == session_.selected()) return j;
  return std::nullopt;
}

void Card::buildJoint(const rig::Joint& joint) {
  const rig::Rig& rig = session_.rig();
  buildHeader(rig::word(joint.type),
              QString::fromStdString(rig.partName(joint.a.part) + " \u2194 " + rig.partName(joint.b.part)));
  forceNow_ = reading(tr("Load now"));
  if (!rig::spans(joint.type)) torqueNow_ = reading(tr("Torque now"));
  separationNow_ = reading(tr("Separation now"));
  peaks_ = reading(tr("Peak of the run"));
  auto* why = new QPushButton(tr("Why is it so?  W"));
  why->setAccessibleName(tr("Why"));
  column_->addWidget(why);
  connect(why, &QPushButton::clicked, this, &Card::whyWanted);
  rule();
  column_->addWidget(jointPanel_ = new JointPanel(session_, {joint.id}));
  rule();
  forceGauge_ = buildGauge(tr("Break force"), rig::Dimension::force);
  const bool twists = joint.type != JointType::ball && !rig::spans(joint.type);
  if (twists) torqueGauge_ = buildGauge(tr("Break torque"), rig::Dimension::torque);
  foretold_ = new QLabel;
  foretold_->setWordWrap(true);
  foretold_->setFont(look::font(look::Size::small));
  foretold_->setProperty("muted", true);
  column_->addWidget(foretold_);
  addEvidence(joint.id);
}

void Card::buildPart(const rig::Part& part) {
  QString size;
  const auto length = [](double v) { return look::words(v, rig::Dimension::length); };
  if (const auto* s = std::get_if<Sphere>(&part.shape)) size = tr("radius %1").arg(length(s->radius));
  if (const auto* c = std::get_if<Capsule>(&part.shape))
    size = tr("radius %1, length %2").arg(length(c->radius), length(c->length));
  if (const auto* c = std::get_if<Cylinder>(&part.shape))
    size = tr("radius %1, length %2").arg(length(c->radius), length(c->length));
  if (const auto* b = std::get_if<Box>(&part.shape))
    size = QString("%1 \u00d7 %2 \u00d7 %3").arg(length(b->size.x()), length(b->size.y()), length(b->size.z()));
  buildHeader(QString("%1 %2").arg(rig::word(part.role), rig::word(part.shape)), size);
  if (part.role == Role::dynamic) column_->addWidget(new MassPanel(session_, {part.id}));
  rule();
  placeNow_ = reading(tr("Centre now"));
  speedNow_ = reading(tr("Speed now"));
  rule();
  column_->addWidget(new PartPanel(session_, {part.id}));
}

void Card::buildGroup(const rig::Group& group) {
  const auto& parts = session_.rig().parts;
  const auto members =
      std::count_if(parts.begin(), parts.end(), [&](const rig::Part& p) { return p.group == group.id; });
  buildHeader(rig::word(group.form), tr("%1 parts").arg(members));
  if (!std::holds_alternative<rig::ByHand>(group.form)) {
    column_->addWidget(new GroupPanel(session_, group.id));
    rule();
  }
  peaks_ = reading(tr("Worst of the run"));
  separationNow_ = reading(tr("Separation now"));
}

void Card::buildMany() {
  auto* label = new QLabel(tr("%1 selected").arg(session_.selection().size()));
  label->setFont(look::font(look::Size::heading, true));
  column_->addWidget(label);
  const rig::Rig& rig = session_.rig();
  std::vector<rig::Id> parts, joints;
  std::set<JointType> types;
  for (const rig::Id id : session_.selection()) {
    if (rig.part(id)) parts.push_back(id);
    if (const rig::Joint* joint = rig.joint(id)) joints.push_back(id), types.insert(joint->type);
    const std::string name = rig.part(id)    ? rig.part(id)->name
                             : rig.joint(id) ? rig.joint(id)->name
                             : rig.cue(id)   ? rig::textOf(*rig.cue(id), rig)
                                             : rig.group(id)->name;
    if (column_->count() <= 8) column_->addWidget(new QLabel(QString::fromStdString(name)));
  }
  auto* names = new QLineEdit;
  names->setPlaceholderText(tr("name them all, as in: pile #"));
  names->setAccessibleName(tr("Names"));
  column_->addWidget(names);
  connect(names, &QLineEdit::returnPressed, this, [this, names, parts] {
    const std::set<rig::Id>& chosen = session_.selection();
    // Parts are numbered as they lie, other things as they were made.
    const std::vector<rig::Id> order = parts.size() == chosen.size()
                                           ? rig::alongTheirLine(session_.rig(), chosen)
                                           : std::vector<rig::Id>(chosen.begin(), chosen.end());
    session_.edit(tr("name %1 things").arg(order.size()),
                  [&](rig::Rig& r) { rig::renameAll(r, order, names->text().trimmed().toStdString()); });
  });
  rule();
  if (parts.size() == session_.selection().size()) {
    const auto moves = [&](rig::Id id) { return rig.part(id)->role == Role::dynamic; };
    if (std::all_of(parts.begin(), parts.end(), moves)) column_->addWidget(new MassPanel(session_, parts));
    column_->addWidget(new PartPanel(session_, parts));
  }
  if (joints.size() == session_.selection().size()) {
    if (types.size() > 1) {
      auto* note = new QLabel(tr("These joints are of different types; what follows is of the first one's."));
      note->setWordWrap(true);
      column_->addWidget(note);
      std::erase_if(joints, [&](rig::Id id) { return rig.joint(id)->type != rig.joint(joints.front())->type; });
    }
    column_->addWidget(jointPanel_ = new JointPanel(session_, joints));
  }
}

void Card::buildStage() {
  auto* title = new QLabel(QString::fromStdString(session_.rig().name));
  title->setFont(look::font(look::Size::heading, true));
  title->setWordWrap(true);
  column_->addWidget(title);
  rule();
  heading(tr("Stage"));
  column_->addWidget(new StagePanel(session_));
  rule();
  heading(tr("Rig"));
  reading(tr("Parts"))->setText(QString::number(session_.rig().parts.size()));
  reading(tr("Joints"))->setText(QString::number(session_.rig().joints.size()));
  double mass = 0;
  for (const rig::Part& p : session_.rig().parts)
    if (p.role == Role::dynamic) mass += p.mass();
  reading(tr("Moving mass"))->setText(look::words(mass, rig::Dimension::mass));
  rule();
  heading(tr("This run"));
  energyNow_ = reading(tr("Energy now"));
  costNow_ = reading(tr("Computed"));
  rule();
  heading(tr("Expected of every run"));
  const auto& expectations = session_.rig().expectations;
  for (std::size_t i = 0; i < expectations.size(); ++i) addExpectation(i);
  if (expectations.empty()) column_->addWidget(new QLabel(tr("Nothing yet (E).")));
}

void Card::buildCue(const rig::Cue& cue) {
  const rig::Rig& rig = session_.rig();
  auto* title = new QLabel(QString::fromStdString(rig::textOf(cue, rig)));
  title->setFont(look::font(look::Size::heading, true));
  title->setWordWrap(true);
  column_->addWidget(title);
  auto* when = new QLabel(tr("cue, %1").arg(QString::fromStdString(rig::textOf(cue.when, rig))));
  when->setProperty("muted", true);
  when->setWordWrap(true);
  column_->addWidget(when);
  rule();
  begunNow_ = reading(tr("In this run"));
  putIn_ = reading(tr("Energy put in so far"));
  if (!cue.track.empty())
    reading(tr("Hand at work"))->setText(look::words(cue.track.back().time, rig::Dimension::time));
  rule();
  auto* row = new QHBoxLayout;
  auto* change = new QPushButton(tr("Change\u2026  Q"));
  auto* remove = new QPushButton(tr("Remove"));
  change->setAccessibleName(tr("Change the cue"));
  remove->setAccessibleName(tr("Remove the cue"));
  row->addWidget(change);
  row->addWidget(remove);
  column_->addLayout(row);
  connect(change, &QPushButton::clicked, this, [this] { emit cueWanted(-1); });
  connect(remove, &QPushButton::clicked, this, [this, id = cue.id, name = title->text()] {
    session_.editOnward(tr("remove cue: %1").arg(name), [id](rig::Rig& r) { rig::remove(r, {id}); });
    session_.select({});
  });
}

void Card::addExpectation(std::size_t i) {
  auto* row = new QWidget;
  auto* line = new QHBoxLayout(row);
  line->setContentsMargins(0, 0, 0, 0);
  auto* words = new QLabel;
  words->setObjectName("expectation");
  words->setWordWrap(true);
  line->addWidget(words, 1);
  verdicts_.push_back(words);
  auto* drop = new QPushButton(tr("Drop"));
  drop->setAccessibleName(tr("Drop expectation %1").arg(i + 1));
  line->addWidget(drop, 0, Qt::AlignTop);
  column_->addWidget(row);
  connect(drop, &QPushButton::clicked, this, [this, i] {
    session_.edit(tr("drop an expectation"), [i](rig::Rig& rig) {
      if (i < rig.expectations.size())
        rig.expectations.erase(rig.expectations.begin() + static_cast<std::ptrdiff_t>(i));
    });
  });
}

// Words and a sign, never colour alone.
void Card::showVerdicts() {
  const auto& expectations = session_.rig().expectations;
  const bool known = session_.hasFrames() && !session_.computing() && !session_.onTrial();
  if (known == verdictsKnown_ || verdicts_.empty()) return;
  verdictsKnown_ = known;
  for (std::size_t i = 0; i < std::min(verdicts_.size(), expectations.size()); ++i) {
    const QString text = QString::fromStdString(rig::textOf(expectations[i], session_.rig())).toHtmlEscaped();
    if (!known) {
      verdicts_[i]->setText(text);
      continue;
    }
    const run::Verdict v = run::judge(*session_.recording(), expectations[i]);
    verdicts_[i]->setText(QString("<b style='color:%1'>%2</b> %3<br><span style='color:%4; font-size:8.5pt'>%5</span>")
                              .arg((v.met ? look::kTeal : look::kBrick).name(),
                                   v.met ? tr("\u2713 met:") : tr("\u2717 not met:"), text, look::kMuted.name(),
                                   QString::fromStdString(v.evidence).toHtmlEscaped()));
  }
}

void Card::refresh() {
  showVerdicts();
  const run::Frame* frame = session_.frame();
  if (!frame) return;
  const run::Recording& recording = *session_.recording();
  const rig::Rig& rig = session_.rig();
  const auto force = [](double f) { return look::words(f, rig::Dimension::force); };
  if (jointPanel_) jointPanel_->refresh();
  if (const auto index = jointIndex()) {
    const run::JointSample& s = frame->joints[*index];
    run::JointSample peak;
    double peakAt = 0;
    for (std::size_t f = 0; f < recording.size(); ++f) {
      const run::JointSample& x = recording.frame(f).joints[*index];
      if (x.force > peak.force) peakAt = recording.frame(f).time;
      peak.force = std::max(peak.force, x.force);
      peak.torque = std::max(peak.torque, x.torque);
      peak.separation = std::max(peak.separation, x.separation);
    }
    forceNow_->setText(force(s.force));
    if (torqueNow_) torqueNow_->setText(look::words(s.torque, rig::Dimension::torque));
    separationNow_->setText(tr("%1, peak %2").arg(separationWords(s.separation), separationWords(peak.separation)));
    peaks_->setText(tr("%1 at %2 s").arg(force(peak.force)).arg(peakAt, 0, 'f', 2));
    const rig::Joint& joint = rig.joints[*index];
    forceGauge_->show(s.force, peak.force, joint.breakForce);
    if (torqueGauge_) torqueGauge_->show(s.torque, peak.torque, joint.breakTorque);
    foretell(forceGauge_->shownStrength(), torqueGauge_ ? torqueGauge_->shownStrength() : joint.breakTorque);
  }
  if (const rig::Group* group = rig.group(session_.selected())) {
    double worst = 0, separation = 0;
    std::string name;
    for (std::size_t j = 0; j < rig.joints.size(); ++j) {
      if (rig.joints[j].group != group->id) continue;
      separation = std::max(separation, double(frame->joints[j].separation));
      for (std::size_t f = 0; f < recording.size(); ++f)
        if (recording.frame(f).joints[j].force > worst)
          worst = recording.frame(f).joints[j].force, name = rig.joints[j].name;
    }
    peaks_->setText(tr("%1, %2").arg(force(worst), QString::fromStdString(name)));
    separationNow_->setText(separationWords(separation));
  }
  if (placeNow_) {
    const auto& parts = rig.parts;
    for (std::size_t i = 0; i < parts.size(); ++i)
      if (parts[i].id == session_.selected()) {
        const Vec3& p = frame->parts[i].pose.position;
        placeNow_->setText(tr("%1, %2, %3 m").arg(p.x(), 0, 'f', 3).arg(p.y(), 0, 'f', 3).arg(p.z(), 0, 'f', 3));
        speedNow_->setText(tr("%1 m/s").arg(frame->parts[i].velocity.norm(), 0, 'f', 3));
      }
  }
  for (std::size_t i = 0; putIn_ && i < std::min(rig.cues.size(), frame->cues.size()); ++i) {
    if (rig.cues[i].id != session_.selected()) continue;
    const run::CueSample& s = frame->cues[i];
    begunNow_->setText(s.begunAt < 0 ? tr("not yet") : tr("came at %1 s").arg(s.begunAt, 0, 'f', 2));
    putIn_->setText(s.begunAt < 0 ? QString() : look::words(s.energy, rig::Dimension::energy));
  }
  if (energyNow_) {
    energyNow_->setText(tr("%1 kJ").arg(frame->energy / 1000, 0, 'f', 3));
    const double cost = session_.costRatio();
    costNow_->setText(session_.computing()
                          ? tr("%1 of %2 s").arg(recording.endTime(), 0, 'f', 1).arg(rig.stage.duration)
                          : tr("%1\u00d7 real time").arg(cost > 0 ? 1 / cost : 0, 0, 'f', 0));
  }
}

void Card::beginRename() {
  if (!name_) return;
  name_->setFocus();
  name_->selectAll();
}

}  // namespace calm::app
