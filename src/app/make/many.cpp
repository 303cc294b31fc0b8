// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/make/many.h"

#include "rig/copies.h"
#include "rig/joining.h"

namespace calm::app {

namespace {
QStringList typeWords() {
  QStringList words;
  for (const JointType type : kPairTypes) words << rig::word(type);
  return words;
}

QSpinBox* spin(const QString& name, int low, int high, int value) {
  auto* box = new QSpinBox;
  box->setRange(low, high);
  box->setValue(value);
  box->setAccessibleName(name);
  return box;
}
}  // namespace

void TrialMaker::take(const Pick& pick) {
  if (pick.part != rig::kNone) session_.toggle(pick.part);
}

std::set<rig::Id> TrialMaker::chosenParts() const {
  std::set<rig::Id> parts;
  const auto& chosen = session_.selection();
  for (const rig::Part& p : session_.rig().parts)
    if (chosen.count(p.id) || (p.group && chosen.count(p.group))) parts.insert(p.id);
  return parts;
}

void TrialMaker::addOutcome() {
  outcome_ = new QLabel;
  outcome_->setObjectName("outcome");
  outcome_->setWordWrap(true);
  addRow(QString(), outcome_);
  connect(&session_, &Session::selectionChanged, this, &Maker::refresh);
}

QString TrialMaker::preview(Preview& preview) {
  outcome_->clear();
  rig::Rig trial = session_.rig();
  try {
    apply(trial);
  } catch (const std::exception& e) {
    return QString::fromStdString(e.what());
  }
  for (const rig::Part& p : trial.parts)
    if (!session_.rig().part(p.id)) preview.moved.push_back(p);
  outcome_->setText(outcome(session_.rig(), trial));
  return {};
}

// --- Copies ---

CopyMaker::CopyMaker(Session& session, QWidget* parent)
    : TrialMaker(session, tr("Copies"),
                 tr("Of the selected parts, with their joints; click parts in the View to add them or leave them out."),
                 tr("Copy"), parent) {
  how_ = addChoice(tr("How"), {tr("in a row"), tr("as in a mirror")});
  count_ = spin(tr("Copies"), 1, 500, 3);
  addRow(tr("Copies"), count_);
  connect(count_, &QSpinBox::valueChanged, this, &Maker::refresh);
  step_ = new PointField(tr("Step"));
  step_->setPoint({1, 0, 0});
  addRow(tr("Step"), step_);
  connect(step_, &PointField::changed, this, &Maker::refresh);
  across_ = addChoice(tr("Mirror across"), {"x", "y", "z"});
  through_ = new PointField(tr("Through"));
  through_->setPoint(Vec3::Zero());
  addRow(tr("Through"), through_);
  connect(through_, &PointField::changed, this, &Maker::refresh);
  addOutcome();
}

QString CopyMaker::preview(Preview& preview) {
  const bool row = how_->currentIndex() == 0;
  showRow(count_, row);
  showRow(step_, row);
  showRow(across_, !row);
  showRow(through_, !row);
  if (!(row ? step_ : through_)->point()) return tr("Type three lengths, for example 1 m, 0, 0.");
  return TrialMaker::preview(preview);
}

void CopyMaker::apply(rig::Rig& rig) {
  if (how_->currentIndex() == 0) {
    made_ = rig::copyInRow(rig, session_.selection(), count_->value(), *step_->point());
    return;
  }
  made_.clear();
  for (const auto& [from, to] :
       rig::copyMirrored(rig, session_.selection(), *through_->point(), Vec3::Unit(across_->currentIndex())))
    if (rig.part(to)) made_.insert(to);
}

QString CopyMaker::outcome(const rig::Rig& before, const rig::Rig& after) const {
  return tr("Makes %1 parts and %2 joints.")
      .arg(after.parts.size() - before.parts.size())
      .arg(after.joints.size() - before.joints.size());
}

// --- Joints between many ---

ManyJointsMaker::ManyJointsMaker(Session& session, QWidget* parent)
    : TrialMaker(session, tr("Joints between many"),
                 tr("Select parts, here or before; click them in the View to add them or leave them out."), tr("Join"),
                 parent) {
  type_ = addChoice(tr("Type"), typeWords());
  how_ = addChoice(tr("Join"), {tr("along their row"), tr("along their ring"), tr("near neighbours")});
  gap_ = addField(tr("Gap at most"), rig::Dimension::length, 0.02);
  most_ = spin(tr("Joints a part"), 1, 50, 4);
  addRow(tr("Joints a part"), most_);
  connect(most_, &QSpinBox::valueChanged, this, &Maker::refresh);
  addOutcome();
}

QString ManyJointsMaker::preview(Preview& preview) {
  const bool near = how_->currentIndex() == 2;
  showRow(gap_, near);
  showRow(most_, near);
  const std::set<rig::Id> parts = chosenParts();
  preview.partners.assign(parts.begin(), parts.end());
  if (!gap_->value()) return tr("Type a gap, for example 2 cm.");
  return TrialMaker::preview(preview);
}

void ManyJointsMaker::apply(rig::Rig& rig) {
  const JointType type = kPairTypes[type_->currentIndex()];
  session_.setJointType(type);
  const std::set<rig::Id> parts = chosenParts();
  std::vector<rig::Id> joints;
  if (how_->currentIndex() == 2) {
    joints = rig::joinNeighbours(rig, type, parts, *gap_->value(), most_->value());
  } else {
    if (parts.size() < 2) throw std::invalid_argument("choose at least two parts to join");
    const bool ring = how_->currentIndex() == 1;
    joints =
        rig::joinInOrder(rig, type, ring ? rig::roundTheirRing(rig, parts) : rig::alongTheirLine(rig, parts), ring);
  }
  made_ = {joints.begin(), joints.end()};
}

QString ManyJointsMaker::outcome(const rig::Rig& before, const rig::Rig& after) const {
  return tr("Makes %1 joints.").arg(after.joints.size() - before.joints.size());
}

// --- Cut ---

CutMaker::CutMaker(Session& session, QWidget* parent)
    : TrialMaker(session, tr("Cut into pieces"), tr("Across its longest axis; the pieces are joined in a row."),
                 tr("Cut"), parent) {
  count_ = spin(tr("Pieces"), 2, 500, 4);
  addRow(tr("Pieces"), count_);
  connect(count_, &QSpinBox::valueChanged, this, &Maker::refresh);
  type_ = addChoice(tr("Joined by"), typeWords());
  addOutcome();
}

void CutMaker::apply(rig::Rig& rig) {
  const std::vector<rig::Id> pieces =
      rig::cut(rig, session_.selected(), count_->value(), kPairTypes[type_->currentIndex()]);
  made_ = {pieces.begin(), pieces.end()};
}

QString CutMaker::outcome(const rig::Rig& before, const rig::Rig& after) const {
  return tr("Makes %1 more parts and %2 joints.")
      .arg(after.parts.size() - before.parts.size())
      .arg(after.joints.size() - before.joints.size());
}

}  // namespace calm::app
