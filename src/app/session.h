// SPDX-License-Identifier: GPL-3.0-or-later
// What the window is showing: the rig with its history, what is selected, the run and the playhead. Widgets read it
// and ask it for changes; they do not know one another.
#pragma once

#include <QElapsedTimer>
#include <QObject>
#include <QTimer>
#include <functional>
#include <memory>
#include <set>

#include "rig/advice/advice.h"
#include "rig/history.h"
#include "rig/kits/line.h"
#include "run/live_run.h"

namespace calm::app {

// What is about to be made, drawn in the View before it is.
struct Preview {
  std::optional<rig::Part> part;
  std::vector<rig::Part> moved;      // parts as they will be
  std::vector<rig::Part> reference;  // what they are compared with
  // Places where the two differ: what sticks out, and what is empty.
  std::vector<Vec3> outside, emptiness;
  std::vector<Vec3> line;  // corners
  std::optional<Vec3> pivot;
  std::vector<rig::Id> partners;
};

// What the lanes show.
enum class Quantity { load, separation, stops, drive, speed, energy };

// The largest force that any joint has carried in a run so far (N), and the largest speed (m/s) and energy of motion
// (J) of any moving part.
struct Largest {
  double force = 0, speed = 0, energy = 0;
  bool operator==(const Largest&) const = default;
};
// A joint's load as a fraction: of its strength, or of the largest load where it has none.
double loadFraction(const rig::Joint& joint, const run::JointSample& sample, const Largest& largest);

// What a finished run is kept for.
enum class Pinned { toCompare, mustHold, mustPart };

class Session : public QObject {
  Q_OBJECT
 public:
  explicit Session(QObject* parent = nullptr);
  ~Session() override;

  // --- The rig ---
  const rig::Rig& rig() const { return history_.now(); }
  const rig::History& history() const { return history_; }
  // Applies the edit as one undoable step and runs anew. Returns false, with a message, if the edit throws.
  bool edit(const QString& name, const std::function<void(rig::Rig&)>& change, const QString& merge = {});
  // The same for what changes only the run's later part: the playhead stays where it is.
  bool editOnward(const QString& name, const std::function<void(rig::Rig&)>& change, const QString& merge = {});
  void undo();
  void redo();

  // What a settings edit did, to be done again to what is then selected.
  using Repeat = std::function<void(rig::Rig&, const std::set<rig::Id>&)>;
  // Changes each of these things in one step, which is then the one to repeat. False, with a message, if the change
  // throws or leaves a faulty rig.
  bool editEach(const QString& what, const std::vector<rig::Id>& ids,
                const std::function<void(rig::Rig&, rig::Id)>& change);
  // Does it; false, with a message, if there is nothing to repeat or it cannot be done to these.
  bool repeatLast();
  // The type that strokes and panels last joined with.
  JointType jointType() const { return jointType_; }
  void setJointType(JointType type) { jointType_ = type; }

  QString path() const { return path_; }
  bool unsaved() const { return history_.unsaved(); }
  // Replace the rig. The first two return false, with a message, and leave all as it was if they cannot.
  bool open(const QString& path);
  bool save(const QString& path);
  void show(rig::Rig rig, const QString& path = {});
  // Opens a copy of work that was never saved: it stays unsaved, and has no path. False, with a message, if it cannot.
  bool recover(const QString& copy);
  // The last message of something that failed.
  QString lastFault() const { return lastFault_; }

  // --- Selection ---
  const std::set<rig::Id>& selection() const { return selection_; }
  // The one selected thing, or kNone.
  rig::Id selected() const { return selection_.size() == 1 ? *selection_.begin() : rig::kNone; }
  void select(const std::set<rig::Id>& ids);
  void toggle(rig::Id id);
  void selectByName(const QString& name);

  // --- The run ---
  // Null until the first run.
  const run::Recording* recording() const { return live_ ? live_->recording().get() : nullptr; }
  // The same to keep, for work in the background.
  std::shared_ptr<const run::Recording> sharedRecording() const { return live_ ? live_->recording() : nullptr; }
  // Keeps the run as it is, whatever is changed and run after it. False, with a message, before it is finished.
  bool pin(Pinned as);
  // Pins a run that was kept.
  void pin(std::shared_ptr<const run::Recording> recording, Pinned as);
  std::shared_ptr<const run::Recording> pinned(Pinned as) const { return pinned_[static_cast<std::size_t>(as)]; }
  bool hasFrames() const { return recording() && recording()->size() > 0; }
  double playhead() const { return playhead_; }
  bool playing() const { return playing_; }
  bool computing() const { return live_ && !live_->finished(); }
  double costRatio() const { return live_ ? live_->costRatio() : 0; }
  // The frame under the playhead; null before the first.
  const run::Frame* frame() const;
  void setPlaying(bool playing);
  // Seconds of the run shown a second: 1 as it is, less for slow motion.
  double playRate() const { return playRate_; }
  void setPlayRate(double rate) { playRate_ = rate; }
  void setPlayhead(double time);
  void stepFrames(int frames);
  void reset() { setPlayhead(0); }
  // Runs that are kept by name, until the program ends; their recordings may be saved to files.
  const std::vector<std::shared_ptr<run::Recording>>& kept() const { return kept_; }
  // Keeps the finished run; false, with a message, before it is finished.
  bool keep(const QString& name);
  void keep(std::shared_ptr<run::Recording> recording);
  void forget(std::size_t kept);

  // A hand takes part in the run from the playhead on, which goes in step with the clock until it lets go; then what
  // it did becomes a cue, as one edit. False, with a message, if the run cannot go on from there.
  bool beginHand(const rig::Cue& hand, const Vec3& at);
  void moveHand(const Vec3& at);
  void endHand(const QString& name);
  bool handing() const { return handing_; }
  // The substeps around the playhead's frames, computed in the background when asked for; null until they are known.
  const run::Detail* detail(std::size_t first, std::size_t last);

  // Runs a changed copy of the rig in place of the rig, from the start, until endTrial(): what is tried is no edit.
  // False, with a message, if the change throws.
  bool beginTrial(const std::function<void(rig::Rig&)>& change);
  void endTrial();
  bool onTrial() const { return onTrial_; }

  Quantity quantity() const { return quantity_; }
  void setQuantity(Quantity quantity);
  double loadFraction(std::size_t joint, const run::JointSample& sample) const {
    return app::loadFraction(rig().joints[joint], sample, largest());
  }
  const Largest& largest() const;

  // What is wrong with the rig as it is, sought in the background after each edit.
  const std::vector<rig::Finding>& advice() const { return advice_; }
  bool advising() const { return advisedRig_ != history_.snapshot(); }
  // Applies a finding's remedy.
  void mend(const rig::Finding& finding);

  Preview& preview() { return preview_; }
  const Preview& preview() const { return preview_; }
  void previewChanged() { emit changed(); }

 signals:
  void rigChanged();  // the document, its name or its saved state
  void selectionChanged();
  void adviceChanged();
  void changed();  // anything drawn: playhead, frames, preview, quantity
  void message(const QString& text, bool fault);

 private:
  void rerun();
  void start(const rig::RigPtr& rig);
  void watchNewRun();
  void advise();
  void tick();

  rig::History history_;
  QString path_, repeatName_;
  Repeat repeat_;
  JointType jointType_ = JointType::ball;
  std::set<rig::Id> selection_;
  std::shared_ptr<run::LiveRun> live_;
  std::vector<std::shared_ptr<run::Recording>> kept_;
  std::shared_ptr<const run::Detail> detail_;
  const run::LiveRun* detailOf_ = nullptr;
  std::pair<std::size_t, std::size_t> detailAsked_;
  rig::Cue hand_;
  bool handing_ = false;
  std::array<std::shared_ptr<const run::Recording>, 3> pinned_;
  double playhead_ = 0, playRate_ = 1;
  bool playing_ = false, onTrial_ = false;
  std::size_t framesSeen_ = 0;
  mutable std::size_t largestSeen_ = 0;
  mutable Largest largest_;
  QTimer timer_;
  QElapsedTimer clock_;
  Quantity quantity_ = Quantity::load;
  Preview preview_;
  QString shownError_, lastFault_;
  std::vector<rig::Finding> advice_;
  rig::RigPtr advisedRig_;  // that advice_ is about
};

}  // namespace calm::app
