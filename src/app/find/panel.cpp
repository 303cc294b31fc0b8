// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/find/panel.h"

#include <QKeyEvent>
#include <QLineEdit>
#include <QListWidget>
#include <QRegularExpression>
#include <QVBoxLayout>

#include "app/look/look.h"
#include "rig/selection.h"
#include "rig/units.h"

namespace calm::app {

namespace {
constexpr int kFindWidth = 460, kMostHits = 40;

// Every word of the search is in the text.
bool matches(const QString& text, const QStringList& words) {
  return std::all_of(words.begin(), words.end(),
                     [&](const QString& w) { return text.contains(w, Qt::CaseInsensitive); });
}
}  // namespace

std::optional<JointRule> parseRule(const QString& text) {
  static const QRegularExpression form(R"(^\s*([a-z-]+?)?s?\s*(?:(?:with\s+)?load\s+above\s+(.+?))?\s*$)",
                                       QRegularExpression::CaseInsensitiveOption);
  const QRegularExpressionMatch match = form.match(text);
  if (!match.hasMatch()) return std::nullopt;
  JointRule rule;
  const std::string type = match.captured(1).toLower().toStdString();
  for (const auto& [known, word] : rig::kJointWords)
    if (type == word) rule.type = known;
  if (!type.empty() && !rule.type && type != "joint") return std::nullopt;
  QString bound = match.captured(2);
  if (bound.endsWith('%')) {
    bool ok = false;
    rule.loadAbove = bound.chopped(1).trimmed().toDouble(&ok) / 100;
    if (!ok) return std::nullopt;
  } else if (!bound.isEmpty()) {
    rule.forceAbove = rig::parseQuantity(bound.toStdString(), rig::Dimension::force);
    if (!rule.forceAbove) return std::nullopt;
  }
  if (type.empty() && bound.isEmpty()) return std::nullopt;
  return rule;
}

std::set<rig::Id> jointsBy(const JointRule& rule, const Session& session) {
  std::set<rig::Id> ids;
  const auto& joints = session.rig().joints;
  for (std::size_t j = 0; j < joints.size(); ++j) {
    if (rule.type && joints[j].type != *rule.type) continue;
    bool reached = !rule.loadAbove && !rule.forceAbove;
    const run::Recording* recording = session.recording();
    for (std::size_t f = 0; recording && !reached && f < recording->size(); ++f) {
      const run::JointSample& s = recording->frame(f).joints[j];
      const bool strong = joints[j].breakForce || joints[j].breakTorque;
      reached = rule.loadAbove ? strong && session.loadFraction(j, s) > *rule.loadAbove : s.force > *rule.forceAbove;
    }
    if (reached) ids.insert(joints[j].id);
  }
  return ids;
}

FindPanel::FindPanel(Session& session, QWidget* parent) : QFrame(parent), session_(session) {
  setObjectName("findPanel");
  setStyleSheet(QString("#findPanel { border: 1px solid %1; border-radius: 8px; background: %2; }")
                    .arg(look::kHairline.name(), look::kPaper.name()));
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(12, 10, 12, 10);
  words_ = new QLineEdit;
  words_->setAccessibleName(tr("Find"));
  words_->setPlaceholderText(tr("an action, a name, or: hinges with load above 80 %"));
  words_->setFont(look::font(look::Size::heading));
  words_->installEventFilter(this);
  list_ = new QListWidget;
  list_->setAccessibleName(tr("Found"));
  list_->setFrameShape(QFrame::NoFrame);
  list_->setFocusPolicy(Qt::NoFocus);
  column->addWidget(words_);
  column->addWidget(list_);
  connect(words_, &QLineEdit::textChanged, this, &FindPanel::list);
  connect(words_, &QLineEdit::returnPressed, this, &FindPanel::take);
  connect(list_, &QListWidget::itemClicked, this, &FindPanel::take);
  hide();
}

void FindPanel::toggle() {
  if (isVisible()) return hide();
  words_->clear();
  list();
  setGeometry((parentWidget()->width() - look::kCardWidth - kFindWidth) / 2, 84, kFindWidth, 340);
  show();
  raise();
  words_->setFocus();
}

bool FindPanel::eventFilter(QObject* watched, QEvent* event) {
  if (event->type() == QEvent::KeyPress) {
    const int key = static_cast<QKeyEvent*>(event)->key();
    if (key == Qt::Key_Escape) {
      hide();
      parentWidget()->setFocus();
      return true;
    }
    if (key == Qt::Key_Down || key == Qt::Key_Up) {
      const int by = key == Qt::Key_Down ? 1 : -1;
      list_->setCurrentRow(std::clamp(list_->currentRow() + by, 0, list_->count() - 1));
      return true;
    }
  }
  return QFrame::eventFilter(watched, event);
}

std::vector<FindPanel::Hit> FindPanel::hits(const QString& text) const {
  std::vector<Hit> found;
  const QStringList words = text.split(' ', Qt::SkipEmptyParts);
  if (const auto rule = parseRule(text)) {
    const std::set<rig::Id> ids = jointsBy(*rule, session_);
    found.push_back(
        {tr("Select %1 joints: %2").arg(ids.size()).arg(text.trimmed()), {}, [this, ids] { session_.select(ids); }});
  }
  for (const std::string& tag : rig::tagsOf(session_.rig())) {
    const QString name = QString::fromStdString(tag);
    if (words.isEmpty() || !matches(tr("tag %1").arg(name), words)) continue;
    const std::set<rig::Id> ids = rig::tagged(session_.rig(), tag);
    found.push_back(
        {tr("Select %1 things tagged %2").arg(ids.size()).arg(name), {}, [this, ids] { session_.select(ids); }});
  }
  for (QAction* action : parentWidget()->actions())
    if (!action->text().isEmpty() && matches(action->text(), words))
      found.push_back({action->text(), action->shortcut().toString(), [action] { action->trigger(); }});
  if (words.isEmpty()) return found;
  const rig::Rig& rig = session_.rig();
  const auto things = [&](const auto& items, const QString& kind) {
    for (const auto& item : items) {
      const QString name = QString::fromStdString(item.name);
      if (static_cast<int>(found.size()) < kMostHits && matches(name + " " + kind, words))
        found.push_back({name, kind, [this, id = item.id] { session_.select({id}); }});
    }
  };
  things(rig.groups, tr("group"));
  things(rig.parts, tr("part"));
  things(rig.joints, tr("joint"));
  return found;
}

void FindPanel::list() {
  hits_ = hits(words_->text());
  list_->clear();
  for (const Hit& hit : hits_)
    list_->addItem(hit.keys.isEmpty() ? hit.text : QString("%1    %2").arg(hit.text, hit.keys));
  list_->setCurrentRow(0);
}

void FindPanel::take() {
  const int row = list_->currentRow();
  if (row < 0 || row >= static_cast<int>(hits_.size())) return;
  const auto take = hits_[row].take;
  hide();
  parentWidget()->setFocus();
  take();
}

}  // namespace calm::app
