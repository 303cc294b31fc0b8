// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/session.h"

#include <QCoreApplication>
#include <QPointer>
#include <QThreadPool>
#include <algorithm>
#include <cmath>

#include "rig/file.h"

namespace calm::app {

Session::Session(QObject* parent) : QObject(parent) {
  connect(&timer_, &QTimer::timeout, this, &Session::tick);
  connect(this, &Session::message, this, [this](const QString& text, bool fault) {
    if (fault) lastFault_ = text;
  });
  timer_.start(16);
  clock_.start();
}

Session::~Session() = default;

bool Session::edit(const QString& name, const std::function<void(rig::Rig&)>& change, const QString& merge) {
  try {
    if (rig().newerVersion) throw std::runtime_error(rig::newerVersionWords(rig().newerVersion));
    history_.apply(name.toStdString(), change, merge.toStdString());
  } catch (const std::exception& e) {
    emit message(QString::fromStdString(e.what()), true);
    return false;
  }
  rerun();
  emit rigChanged();
  return true;
}

bool Session::editEach(const QString& what, const std::vector<rig::Id>& ids,
                       const std::function<void(rig::Rig&, rig::Id)>& change) {
  repeatName_ = what;
  repeat_ = [change](rig::Rig& rig, const std::set<rig::Id>& chosen) {
    for (const rig::Id id : chosen) change(rig, id);
    for (const rig::Fault& f : rig::faultsOf(rig)) throw std::invalid_argument(f.text());
  };
  const rig::Joint* joint = rig().joint(ids.front());
  const QString name = ids.size() > 1 ? tr("%1 things").arg(ids.size())
                                      : QString::fromStdString(joint ? joint->name : rig().partName(ids.front()));
  return edit(tr("%1 of %2").arg(what, name), [&](rig::Rig& rig) { repeat_(rig, {ids.begin(), ids.end()}); });
}

bool Session::repeatLast() {
  if (!repeat_ || selection_.empty()) {
    emit message(repeat_ ? tr("Select what it is to be done to.") : tr("Nothing to repeat: change a setting first."),
                 true);
    return false;
  }
  return edit(tr("%1, again").arg(repeatName_), [this](rig::Rig& rig) { repeat_(rig, selection_); });
}

void Session::undo() {
  if (!history_.canUndo()) return;
  emit message(tr("Undid: %1").arg(QString::fromStdString(history_.undoName())), false);
  history_.undo();
  select(selection_);
  rerun();
  emit rigChanged();
}

void Session::redo() {
  if (!history_.canRedo()) return;
  emit message(tr("Did again: %1").arg(QString::fromStdString(history_.redoName())), false);
  history_.redo();
  select(selection_);
  rerun();
  emit rigChanged();
}

bool Session::open(const QString& path) {
  try {
    show(rig::loadRig(path.toStdString(), rig::Newer::toLookAt), path);
    if (rig().newerVersion) emit message(QString::fromStdString(rig::newerVersionWords(rig().newerVersion)), true);
  } catch (const std::exception& e) {
    emit message(QString::fromStdString(e.what()), true);
    return false;
  }
  return true;
}

bool Session::save(const QString& path) {
  try {
    rig::saveRig(rig(), path.toStdString());
  } catch (const std::exception& e) {
    emit message(QString::fromStdString(e.what()), true);
    return false;
  }
  path_ = path;
  history_.markSaved();
  emit message(tr("Saved %1").arg(path), false);
  emit rigChanged();
  return true;
}

void Session::show(rig::Rig rig, const QString& path) {
  history_ = rig::History(std::move(rig));
  path_ = path;
  pinned_ = {};
  select({});
  rerun();
  emit rigChanged();
}

bool Session::recover(const QString& copy) {
  try {
    const rig::Rig rig = rig::loadRig(copy.toStdString());
    show({});
    return edit(tr("recover"), [&](rig::Rig& now) { now = rig; });
  } catch (const std::exception& e) {
    emit message(QString::fromStdString(e.what()), true);
    return false;
  }
}

void Session::select(const std::set<rig::Id>& ids) {
  std::set<rig::Id> known;
  for (rig::Id id : ids)
    if (rig().part(id) || rig().joint(id) || rig().group(id)) known.insert(id);
  if (known == selection_) return;
  selection_ = known;
  emit selectionChanged();
}

void Session::toggle(rig::Id id) {
  std::set<rig::Id> next = selection_;
  if (!next.erase(id)) next.insert(id);
  select(next);
}

void Session::selectByName(const QString& name) {
  const std::string wanted = name.toStdString();
  const auto pick = [&](const auto& items) {
    for (const auto& item : items)
      if (item.name == wanted) select({item.id});
  };
  pick(rig().parts);
  pick(rig().joints);
  pick(rig().groups);
}

void Session::advise() {
  const rig::RigPtr rig = history_.snapshot();
  QPointer<Session> self(this);
  QThreadPool::globalInstance()->start([self, rig] {
    auto found = std::make_shared<std::vector<rig::Finding>>(rig::adviceFor(*rig));
    QMetaObject::invokeMethod(
        QCoreApplication::instance(),
        [self, rig, found] {
          // What is about an older rig is of no use; the newer one's own is under way.
          if (!self || self->history_.snapshot() != rig) return;
          self->advice_ = std::move(*found);
          self->advisedRig_ = rig;
          emit self->adviceChanged();
        },
        Qt::QueuedConnection);
  });
}

void Session::mend(const rig::Finding& finding) {
  const rig::Finding copy = finding;  // the edit replaces the list that it stands in
  if (edit(QString::fromStdString(copy.remedy).toLower(), copy.mend)) select({copy.on.begin(), copy.on.end()});
}

void Session::rerun() {
  advise();
  onTrial_ = false;
  start(history_.snapshot());
}

bool Session::beginTrial(const std::function<void(rig::Rig&)>& change) {
  auto tried = std::make_shared<rig::Rig>(rig());
  try {
    change(*tried);
  } catch (const std::exception& e) {
    emit message(QString::fromStdString(e.what()), true);
    return false;
  }
  onTrial_ = true;
  start(tried);
  setPlaying(true);
  return true;
}

bool Session::pin(Pinned as) {
  if (!hasFrames() || computing()) {
    emit message(tr("Wait until the run is computed."), true);
    return false;
  }
  pinned_[static_cast<std::size_t>(as)] = sharedRecording();
  emit message(as == Pinned::toCompare ? tr("Pinned; change something and compare (Y).") : tr("Pinned."), false);
  emit changed();
  return true;
}

void Session::endTrial() {
  if (!onTrial_) return;
  setPlaying(false);
  rerun();
}

void Session::start(const rig::RigPtr& rig) {
  live_ = std::make_unique<run::LiveRun>(rig);
  playhead_ = 0;
  framesSeen_ = 0;
  largestSeen_ = 0;
  largest_ = {};
  shownError_.clear();
  emit changed();
}

const run::Frame* Session::frame() const {
  if (!hasFrames()) return nullptr;
  return &recording()->frame(recording()->indexAt(playhead_));
}

void Session::setPlaying(bool playing) {
  // Play at the end starts over.
  if (playing && hasFrames() && playhead_ >= rig().stage.duration - 1e-9) playhead_ = 0;
  playing_ = playing;
  clock_.restart();
  emit changed();
}

void Session::setPlayhead(double time) {
  playhead_ = std::clamp(time, 0.0, hasFrames() ? recording()->endTime() : 0.0);
  emit changed();
}

void Session::stepFrames(int frames) {
  setPlaying(false);
  if (!hasFrames()) return;
  const double frame = recording()->frameTime();
  setPlayhead((std::round(playhead_ / frame) + frames) * frame);
}

void Session::setQuantity(Quantity quantity) {
  quantity_ = quantity;
  emit changed();
}

double Session::loadFraction(std::size_t joint, const run::JointSample& sample) const {
  const rig::Joint& j = rig().joints[joint];
  if (j.breakForce || j.breakTorque)
    return std::max(j.breakForce ? sample.force / *j.breakForce : 0,
                    j.breakTorque ? sample.torque / *j.breakTorque : 0);
  // Without a strength nothing can fail: the ramp stops short of its red end.
  const double largest = this->largest().force;
  return largest > 0 ? std::min(sample.force / largest, 0.999) : 0;
}

const Session::Largest& Session::largest() const {
  for (; hasFrames() && largestSeen_ < recording()->size(); ++largestSeen_) {
    const run::Frame& frame = recording()->frame(largestSeen_);
    for (const run::JointSample& s : frame.joints) largest_.force = std::max(largest_.force, double(s.force));
    for (std::size_t i = 0; i < frame.parts.size(); ++i) {
      if (rig().parts[i].role != Role::dynamic) continue;
      largest_.speed = std::max(largest_.speed, frame.parts[i].velocity.norm());
      largest_.energy = std::max(largest_.energy, run::kineticEnergyOf(rig().parts[i], frame.parts[i]));
    }
  }
  return largest_;
}

void Session::tick() {
  const double elapsed = clock_.restart() / 1000.0;
  bool redraw = false;
  if (live_) {
    const QString error = QString::fromStdString(live_->error());
    if (!error.isEmpty() && error != shownError_) {
      shownError_ = error;
      emit message(error, true);
    }
    redraw = recording()->size() != framesSeen_;
    framesSeen_ = recording()->size();
  }
  if (playing_ && hasFrames()) {
    const double before = playhead_;
    playhead_ = std::min(playhead_ + elapsed, recording()->endTime());
    redraw |= playhead_ != before;
    if (playhead_ >= rig().stage.duration - 1e-9) playing_ = false;
  }
  if (redraw) emit changed();
}

}  // namespace calm::app
