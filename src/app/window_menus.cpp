// SPDX-License-Identifier: GPL-3.0-or-later
// The window's menus: every action with its keys, and what they do to the selection. Find lists them, too.
#include <QMenuBar>

#include "app/advice/panel.h"
#include "app/card/card.h"
#include "app/compare/panel.h"
#include "app/effort/panel.h"
#include "app/find/panel.h"
#include "app/make/maker.h"
#include "app/runs/panel.h"
#include "app/view/hands_strip.h"
#include "app/view/view.h"
#include "app/why/panel.h"
#include "app/window.h"
#include "rig/copies.h"
#include "rig/demos.h"
#include "rig/edits.h"
#include "rig/kits/group.h"
#include "rig/selection.h"

namespace calm::app {

QAction* Window::action(const QString& text, const QKeySequence& key, const std::function<void()>& run) {
  auto* a = new QAction(text, this);
  a->setShortcut(key);
  connect(a, &QAction::triggered, this, run);
  addAction(a);
  return a;
}

void Window::buildActions() {
  QMenu* file = menuBar()->addMenu(tr("Rig"));
  file->addAction(action(tr("New"), QKeySequence::New, [this] { newRig(); }));
  file->addAction(action(tr("Open\u2026"), QKeySequence::Open, [this] { openFile(); }));
  recent_ = file->addMenu(tr("Open a recent one"));
  connect(recent_, &QMenu::aboutToShow, this, &Window::fillRecent);
  file->addAction(action(tr("Open the jib hoist"), {}, [this] {
    if (mayLeave()) session_.show(rig::jibHoistSlice());
  }));
  file->addAction(action(tr("Save"), QKeySequence::Save, [this] { saveFile(false); }));
  file->addAction(action(tr("Save as\u2026"), QKeySequence::SaveAs, [this] { saveFile(true); }));
  file->addSeparator();
  file->addAction(action(tr("Leave"), QKeySequence::Quit, [this] { close(); }));
  QMenu* edit = menuBar()->addMenu(tr("Edit"));
  edit->addAction(action(tr("Undo"), QKeySequence::Undo, [this] { session_.undo(); }));
  edit->addAction(action(tr("Do again"), QKeySequence("Ctrl+Shift+Z"), [this] { session_.redo(); }));
  edit->addAction(action(tr("Delete"), QKeySequence::Delete, [this] { deleteSelection(); }));
  edit->addAction(action(tr("Duplicate"), QKeySequence("Ctrl+D"), [this] { duplicate(); }));
  edit->addAction(
      action(tr("Copies in a row, mirrored\u2026"), QKeySequence("Ctrl+R"), [this] { openPanel("copies"); }));
  edit->addAction(action(tr("Cut into pieces\u2026"), Qt::Key_C, [this] { openPanel("cut"); }));
  edit->addAction(action(tr("Again, to what is selected"), Qt::Key_R, [this] { session_.repeatLast(); }));
  edit->addAction(action(tr("Group"), QKeySequence("Ctrl+G"), [this] { group(); }));
  edit->addAction(action(tr("Ungroup"), QKeySequence("Ctrl+Shift+G"), [this] { ungroup(); }));
  const auto choose = [this](std::set<rig::Id> (*choice)(const rig::Rig&, const std::set<rig::Id>&)) {
    return [this, choice] { session_.select(choice(session_.rig(), session_.selection())); };
  };
  edit->addAction(action(tr("Select further along the rail"), Qt::Key_G, choose(rig::grown)));
  edit->addAction(action(tr("Select all that hangs together"), QKeySequence("Shift+G"), choose(rig::assemblyOf)));
  edit->addAction(action(tr("Select all of the same kind"), Qt::Key_T, choose(rig::alike)));
  edit->addAction(action(tr("Share settings\u2026"), Qt::Key_S, [this] { openPanel("share"); }));
  edit->addAction(action(tr("Rename"), Qt::Key_F2, [this] { card_->beginRename(); }));
  edit->addAction(action(tr("Find"), Qt::Key_Slash, [this] { find_->toggle(); }));
  edit->addAction(action(tr("Select nothing"), Qt::Key_Escape, [this] {
    if (why_->isVisible())
      why_->toggle();
    else if (compare_->isVisible())
      compare_->hide();
    else if (runs_->isVisible())
      runs_->hide();
    else if (effort_->isVisible())
      effort_->toggle();
    else if (view_ && view_->hands().tool() != Hands::Tool::none)
      hands_->choose(Hands::Tool::none);
    else if (advicePanel_->isVisible())
      advicePanel_->hide();
    else
      maker_ ? closeMaker() : session_.select({});
  }));
  QMenu* add = menuBar()->addMenu(tr("Add"));
  add->addAction(action(tr("Part"), Qt::Key_P, [this] { openPanel("part"); }));
  add->addAction(action(tr("Joint"), Qt::Key_J, [this] { openPanel("joint"); }));
  add->addAction(action(tr("Line"), Qt::Key_L, [this] { openPanel("line"); }));
  add->addAction(action(tr("Kit: door, ladder, ring"), Qt::Key_K, [this] { openPanel("kit"); }));
  add->addAction(action(tr("Import a mesh\u2026"), QKeySequence("Ctrl+I"), [this] { openPanel("import"); }));
  add->addAction(action(tr("Joints between many\u2026"), QKeySequence("Shift+J"), [this] { openPanel("joints"); }));
  QMenu* run = menuBar()->addMenu(tr("Run"));
  run->addAction(action(tr("Run or pause"), Qt::Key_Space, [this] { session_.setPlaying(!session_.playing()); }));
  run->addAction(action(tr("One frame on"), Qt::Key_Period, [this] { session_.stepFrames(1); }));
  run->addAction(action(tr("One frame back"), Qt::Key_Comma, [this] { session_.stepFrames(-1); }));
  run->addAction(action(tr("Why is it so? (of a joint)"), Qt::Key_W, [this] { why_->toggle(); }));
  run->addAction(action(tr("Pin this run"), QKeySequence("Shift+P"), [this] { session_.pin(Pinned::toCompare); }));
  run->addAction(action(tr("Compare with the pinned run"), Qt::Key_Y, [this] { compare_->toggle(); }));
  run->addAction(action(tr("Expect\u2026"), Qt::Key_E, [this] { openPanel("expect"); }));
  run->addAction(action(tr("Advice"), Qt::Key_A, [this] { advicePanel_->toggle(); }));
  run->addAction(action(tr("Back to the start"), Qt::Key_Home, [this] { session_.reset(); }));
  addRunActions(run);
  QMenu* look = menuBar()->addMenu(tr("Look"));
  const auto looking = [this](const std::function<void(View&)>& change) {
    return [this, change] {
      if (!view_) return;
      change(*view_);
      view_->update();
    };
  };
  look->addAction(action(tr("At everything"), Qt::Key_0, looking([](View& v) { v.frameAll(); })));
  look->addAction(action(tr("At the selection"), Qt::Key_9, looking([](View& v) { v.frameSelection(); })));
  look->addAction(action(tr("From the front"), Qt::Key_1, looking([](View& v) { v.camera().face(0, 0); })));
  look->addAction(action(tr("From the right"), Qt::Key_2, looking([](View& v) { v.camera().face(90, 0); })));
  look->addAction(action(tr("From above"), Qt::Key_3, looking([](View& v) { v.camera().face(0, 86); })));
  look->addAction(action(tr("Without perspective"), Qt::Key_4,
                         looking([](View& v) { v.camera().setOrthographic(!v.camera().orthographic()); })));
  look->addAction(
      action(tr("Hide the selected"), Qt::Key_H, looking([this](View& v) { v.hide(session_.selection()); })));
  look->addAction(action(tr("Show all"), QKeySequence("Shift+H"), looking([](View& v) { v.showAll(); })));
  look->addAction(
      action(tr("Only the selected"), Qt::Key_I, looking([this](View& v) { v.isolate(session_.selection()); })));
  look->addAction(action(tr("Handles along the part's own axes"), Qt::Key_O,
                         looking([](View& v) { v.grip().useOwnAxes(!v.grip().usesOwnAxes()); })));
  look->addAction(
      action(tr("Joints through parts"), Qt::Key_X, looking([](View& v) { v.setJointsThrough(!v.jointsThrough()); })));
  look->addAction(action(tr("Parts as glass"), QKeySequence("Shift+X"),
                         looking([](View& v) { v.setSeesThrough(!v.seesThrough()); })));
  look->addAction(action(tr("Names"), Qt::Key_N, looking([](View& v) { v.setShowsNames(!v.showsNames()); })));
  look->addAction(
      action(tr("Larger signs"), Qt::Key_BracketRight, looking([](View& v) { v.setSignSize(v.signSize() * 1.4); })));
  look->addAction(
      action(tr("Smaller signs"), Qt::Key_BracketLeft, looking([](View& v) { v.setSignSize(v.signSize() / 1.4); })));
  look->addAction(
      action(tr("Pick parts only, joints only, everything"), Qt::Key_F, looking([this](View& v) {
               const bool everything = v.pickable() == Pickable::everything, parts = v.pickable() == Pickable::parts;
               v.setPickable(everything ? Pickable::parts : parts ? Pickable::joints : Pickable::everything);
               showMessage(everything ? tr("Picks parts only")
                           : parts    ? tr("Picks joints only")
                                      : tr("Picks everything"),
                           false);
             })));
  look->addAction(action(tr("Measure"), Qt::Key_M, looking([this](View& v) {
                           closeMaker();
                           v.measure().setOn(!v.measure().isOn());
                           v.setCursor(v.measure().isOn() ? Qt::CrossCursor : Qt::ArrowCursor);
                           if (v.measure().isOn())
                             showMessage(tr("Click two places; M again to put the ruler away"), false);
                         })));
}

void Window::addRunActions(QMenu* run) {
  run->addSeparator();
  run->addAction(action(tr("Cue\u2026"), Qt::Key_Q, [this] { openCue(-1); }));
  run->addAction(action(tr("Kept runs"), Qt::Key_U, [this] { runs_->toggle(); }));
  const auto flip = [this](Lower what) { return [this, what] { showLower(lower() == what ? Lower::ledger : what); }; };
  run->addAction(action(tr("Traces"), Qt::Key_V, flip(Lower::traces)));
  run->addAction(action(tr("Sweep a setting"), Qt::Key_Z, flip(Lower::sweep)));
  run->addAction(action(tr("Effort of the run"), Qt::Key_D, [this] { effort_->toggle(); }));
  run->addAction(action(tr("Start the rig here, moving"), QKeySequence("Shift+Home"), [this] { startHere(true); }));
  run->addAction(action(tr("Start the rig here, at rest"), QKeySequence("Ctrl+Home"), [this] { startHere(false); }));
  run->addAction(action(tr("Bake the selected to keyed motion"), Qt::Key_B, [this] { bake(true); }));
  run->addAction(action(tr("Free the selected from keys"), QKeySequence("Shift+B"), [this] { bake(false); }));
  QMenu* hands = menuBar()->addMenu(tr("Hands"));
  for (const auto& [text, key, tool] :
       {std::tuple(tr("Grab"), Qt::Key_5, Hands::Tool::grab), std::tuple(tr("Push"), Qt::Key_6, Hands::Tool::push),
        std::tuple(tr("Throw"), Qt::Key_7, Hands::Tool::toss), std::tuple(tr("Gust"), Qt::Key_8, Hands::Tool::gust)})
    hands->addAction(action(text, key, [this, which = tool] {
      if (hands_) hands_->choose(which);
    }));
}

// Beside the originals, clear of them.
void Window::duplicate() {
  Aabb box;
  const auto& chosen = session_.selection();
  for (const rig::Part& p : session_.rig().parts)
    if (chosen.count(p.id) || (p.group && chosen.count(p.group))) box.include(boundsOf(p.shape, p.pose));
  if (!(box.low.array() <= box.high.array()).all())
    return emit session_.message(tr("Choose the parts to duplicate first."), true);
  const double aside = std::ceil((box.high.x() - box.low.x()) * 1.1 * 20) / 20;
  std::set<rig::Id> made;
  const bool done = session_.edit(tr("duplicate"), [&](rig::Rig& rig) {
    for (const auto& [from, to] : rig::copyMoved(rig, chosen, {Vec3(aside, 0, 0), Quat::Identity()}))
      if (rig.part(to)) made.insert(to);
  });
  if (done) session_.select(made);
}

void Window::deleteSelection() {
  if (session_.selection().empty()) return;
  const std::set<rig::Id> ids = session_.selection();
  session_.edit(ids.size() == 1 ? tr("delete") : tr("delete %1 things").arg(ids.size()),
                [&](rig::Rig& rig) { rig::remove(rig, ids); });
  session_.select({});
}

void Window::group() {
  rig::Id made = rig::kNone;
  if (session_.edit(tr("group"), [&](rig::Rig& rig) { made = rig::groupByHand(rig, session_.selection(), "group"); }))
    session_.select({made});
}

void Window::ungroup() {
  const rig::Id id = session_.selected();
  if (!session_.rig().group(id)) return showMessage(tr("Select a group to ungroup."), true);
  session_.edit(tr("ungroup %1").arg(QString::fromStdString(session_.rig().group(id)->name)),
                [&](rig::Rig& rig) { rig::ungroup(rig, id); });
}

}  // namespace calm::app
