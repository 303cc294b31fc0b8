// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/advice/panel.h"

#include <QLabel>
#include <QPushButton>
#include <QScrollArea>
#include <QVBoxLayout>

#include "app/look/look.h"

namespace calm::app {

namespace {
constexpr int kAdviceWidth = 520, kMostHeight = 340;
constexpr std::size_t kMostRows = 60;
}  // namespace

AdvicePanel::AdvicePanel(Session& session, std::function<QStringList()> partings, QWidget* parent)
    : QFrame(parent), session_(session), partings_(std::move(partings)) {
  setObjectName("advicePanel");
  setAccessibleName(tr("Advice list"));
  setStyleSheet(QString("#advicePanel { border: 1px solid %1; border-radius: 8px; background: %2; }")
                    .arg(look::kHairline.name(), look::kPaper.name()));
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(4, 8, 4, 8);
  auto* scroll = new QScrollArea;
  scroll->setWidgetResizable(true);
  scroll->setFrameShape(QFrame::NoFrame);
  scroll->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  list_ = new QWidget;
  rows_ = new QVBoxLayout(list_);
  rows_->setContentsMargins(12, 2, 12, 2);
  rows_->setSpacing(2);
  scroll->setWidget(list_);
  column->addWidget(scroll);
  hide();
  connect(&session_, &Session::adviceChanged, this, [this] {
    if (isVisible()) rebuild();
  });
}

void AdvicePanel::toggle() {
  if (isVisible()) return hide();
  rebuild();
  show();
  raise();
}

void AdvicePanel::rebuild() {
  while (QLayoutItem* item = rows_->takeAt(0)) {
    if (QWidget* widget = item->widget()) widget->setParent(nullptr), widget->deleteLater();
    delete item;
  }
  const QStringList partings = partings_();
  const auto& advice = session_.advice();
  for (const QString& parting : partings) {
    auto* label = new QLabel(parting);
    label->setStyleSheet(QString("color: %1; padding: 4px 0").arg(look::kBrick.name()));
    rows_->addWidget(label);
  }
  for (std::size_t i = 0; i < std::min(advice.size(), kMostRows); ++i) addRow(advice[i]);
  if (advice.size() > kMostRows) rows_->addWidget(new QLabel(tr("and %1 more").arg(advice.size() - kMostRows)));
  if (advice.empty() && partings.isEmpty()) rows_->addWidget(new QLabel(tr("Nothing needs attention.")));
  rows_->addStretch();
  place();
}

void AdvicePanel::addRow(const rig::Finding& finding) {
  auto* row = new QWidget;
  auto* line = new QHBoxLayout(row);
  line->setContentsMargins(0, 5, 0, 5);
  const QString text = QString::fromStdString(finding.text);
  auto* words = new QLabel(QString("%1<br><span style='color:%2; font-size:8.5pt'>%3</span>")
                               .arg((text.left(1).toUpper() + text.mid(1)).toHtmlEscaped(), look::kMuted.name(),
                                    QString::fromStdString(finding.evidence).toHtmlEscaped()));
  words->setWordWrap(true);
  line->addWidget(words, 1);
  auto* go = new QPushButton(tr("Show"));
  go->setToolTip(tr("Select what this is about"));
  connect(go, &QPushButton::clicked, this, [this, on = finding.on] { session_.select({on.begin(), on.end()}); });
  line->addWidget(go);
  auto* mend = new QPushButton(tr("Mend"));
  mend->setAccessibleName(QString::fromStdString(finding.remedy));
  mend->setToolTip(QString::fromStdString(finding.remedy));
  mend->setProperty("primary", true);
  connect(mend, &QPushButton::clicked, this, [this, finding] { session_.mend(finding); });
  line->addWidget(mend);
  auto* remedy = new QLabel(QString::fromStdString("\u21b3 " + finding.remedy));
  remedy->setFont(look::font(look::Size::small));
  remedy->setStyleSheet(QString("color: %1").arg(look::kTeal.name()));
  rows_->addWidget(row);
  rows_->addWidget(remedy);
}

void AdvicePanel::place() {
  // New rows count only once they are shown.
  for (QObject* child : list_->children())
    if (auto* row = qobject_cast<QWidget*>(child)) row->show();
  rows_->activate();
  const int height = std::min(kMostHeight, rows_->totalHeightForWidth(kAdviceWidth - 28) + 24);
  // Hangs from its chip, or stands on it where there is more room above.
  const QWidget* chip = parentWidget()->findChild<QWidget*>("advice");
  const bool seen = chip && chip->isVisible();
  const QPoint top = seen ? chip->mapTo(parentWidget(), QPoint(chip->width(), -6))
                          : QPoint(parentWidget()->width() - look::kCardWidth - 20, 60);
  const int below = top.y() + (seen ? chip->height() + 12 : 0);
  const bool hangs = below + height <= parentWidget()->height();
  setGeometry(std::max(8, top.x() - kAdviceWidth), hangs ? below : std::max(8, top.y() - height), kAdviceWidth, height);
}

}  // namespace calm::app
