// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/session.h"

#include <QCoreApplication>
#include <QPointer>
#include <QThreadPool>
#include <algorithm>
#include <cmath>

#include "rig/edits.h"
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
  if (!editOnward(name, change, merge)) return false;
  playhead_ = 0;
  emit changed();
  return true;
}

bool Session::editOnward(const QString& name, const std::function<void(rig::Rig&)>& change, const QString& merge) {
  try {
    if (rig().newerVersion) throw std::runtime_error(rig::newerVersionWords(rig().newerVersion));
    history_.apply(name.toStdString(), change, merge.toStdString());
  } catch (const std::exception& e) {
    emit message(QString::fromStdString(e.what()), true);
    return false;
  }
  const double time = playhead_;
  rerun();
  playhead_ = time;
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
    if (rig().part(id) || rig().joint(id) || rig().group(id) || rig().cue(id)) known.insert(id);
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
  pin(sharedRecording(), as);
  return true;
}

void Session::pin(std::shared_ptr<const run::Recording> recording, Pinned as) {
  pinned_[static_cast<std::size_t>(as)] = std::move(recording);
  emit message(as == Pinned::toCompare ? tr("Pinned; change something and compare (Y).") : tr("Pinned."), false);
  emit changed();
}

bool Session::keep(const QString& name) {
  if (!hasFrames() || computing() || handing_) {
    emit message(tr("Wait until the run is computed."), true);
    return false;
  }
  live_->recording()->setName(name.toStdString());
  keep(live_->recording());
  return true;
}

void Session::keep(std::shared_ptr<run::Recording> recording) {
  if (std::find(kept_.begin(), kept_.end(), recording) == kept_.end()) kept_.push_back(std::move(recording));
  emit changed();
}

void Session::forget(std::size_t kept) {
  kept_.erase(kept_.begin() + static_cast<std::ptrdiff_t>(kept));
  emit changed();
}

bool Session::beginHand(const rig::Cue& hand, const Vec3& at) {
  if (rig().newerVersion || onTrial_ || !hasFrames()) {
    emit message(tr("There is no run yet to lend a hand in."), true);
    return false;
  }
  const std::size_t index = recording()->indexAt(playhead_);
  if (index + 2 >= recording()->capacity()) {
    emit message(tr("The run ends here; go back, or make it longer on the stage's Card."), true);
    return false;
  }
  hand_ = hand;
  hand_.id = rig().nextId;
  hand_.when.at = recording()->frame(index).time;
  live_ = std::make_shared<run::LiveRun>(*live_, index, hand_, at);
  watchNewRun();
  playhead_ = hand_.when.at;
  handing_ = true;
  setPlaying(true);
  return true;
}

void Session::moveHand(const Vec3& at) {
  if (handing_) live_->moveHand(at);
}

void Session::endHand(const QString& name) {
  if (!std::exchange(handing_, false)) return;
  rig::Cue cue = live_->letGo();
  rig::Id made = rig::kNone;
  if (editOnward(name, [&](rig::Rig& rig) { made = rig::addCue(rig, cue); })) select({made});
}

const run::Detail* Session::detail(std::size_t first, std::size_t last) {
  if (!live_ || handing_ || last >= recording()->size()) return nullptr;
  const bool known = detail_ && detailOf_ == live_.get() && detail_->first <= first && detail_->last >= last;
  if (known) return detail_.get();
  const std::pair asked{first, last};
  if (detailOf_ == live_.get() && detailAsked_ == asked) return nullptr;
  detailOf_ = live_.get();
  detailAsked_ = asked;
  detail_.reset();
  QThreadPool::globalInstance()->start([self = QPointer<Session>(this), live = live_, asked] {
    const auto found = std::make_shared<const run::Detail>(live->detail(asked.first, asked.second));
    QMetaObject::invokeMethod(QCoreApplication::instance(), [self, live, asked, found] {
      if (!self || self->live_ != live || self->detailAsked_ != asked) return;
      self->detail_ = found;
      emit self->changed();
    });
  });
  return nullptr;
}

void Session::endTrial() {
  if (!onTrial_) return;
  setPlaying(false);
  rerun();
}

void Session::start(const rig::RigPtr& rig) {
  handing_ = false;
  live_ = std::make_shared<run::LiveRun>(rig);
  playhead_ = 0;
  watchNewRun();
}

void Session::watchNewRun() {
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

double loadFraction(const rig::Joint& j, const run::JointSample& sample, const Largest& largest) {
  if (j.breakForce || j.breakTorque)
    return std::max(j.breakForce ? sample.force / *j.breakForce : 0,
                    j.breakTorque ? sample.torque / *j.breakTorque : 0);
  // Without a strength nothing can fail: the ramp stops short of its red end.
  return largest.force > 0 ? std::min(sample.force / largest.force, 0.999) : 0;
}

const Largest& Session::largest() const {
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
    // Where the run is still to be computed again, the playhead waits for it.
    const double end = recording()->endTime();
    // A hand is at work in the present.
    const double rate = handing_ ? 1 : playRate_;
    if (playhead_ <= end) playhead_ = std::min(playhead_ + rate * elapsed, end);
    redraw |= playhead_ != before;
    if (playhead_ >= rig().stage.duration - 1e-9) playing_ = false;
  }
  if (redraw) emit changed();
}

}  // namespace calm::app
