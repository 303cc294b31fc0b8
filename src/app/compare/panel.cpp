// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/compare/panel.h"

#include <QHeaderView>
#include <QTableWidget>
#include <cmath>

#include "run/compare.h"

namespace calm::app {

namespace {
QString words(const run::Change& change, double value) {
  return std::isnan(value) ? QObject::tr("never")
                           : QString::fromStdString(rig::formatQuantity(value, change.dimension, 4));
}
}  // namespace

ComparePanel::ComparePanel(Session& session, QWidget* parent)
    : FloatingPanel("comparePanel", tr("Compare"), parent), session_(session) {
  connect(close_, &QPushButton::clicked, this, &QFrame::hide);
  table_ = new QTableWidget(0, 4);
  table_->setAccessibleName(tr("Changes"));
  table_->setHorizontalHeaderLabels({tr("what"), tr("pinned"), tr("this run"), tr("change")});
  table_->verticalHeader()->hide();
  table_->horizontalHeader()->setSectionResizeMode(0, QHeaderView::Stretch);
  table_->setEditTriggers(QAbstractItemView::NoEditTriggers);
  table_->setShowGrid(false);
  table_->setFrameShape(QFrame::NoFrame);
  column_->addWidget(table_, 1);
  connect(&session_, &Session::changed, this, [this] {
    if (session_.computing()) stale_ = true;
    if (isVisible() && stale_ && !session_.computing()) fill();
  });
}

void ComparePanel::toggle() {
  if (isVisible()) return hide();
  if (!session_.pinned(Pinned::toCompare)) {
    emit session_.message(tr("Pin a run first (Shift+P), then change something."), true);
    return;
  }
  fill();
  popUp();
}

void ComparePanel::fill() {
  stale_ = session_.computing();
  const auto pinned = session_.pinned(Pinned::toCompare);
  if (!pinned || !session_.hasFrames()) return;
  head_->setText(stale_ ? tr("The pinned run, and this one so far") : tr("The pinned run, and this one"));
  const std::vector<run::Change> changes = run::compare(*pinned, *session_.recording(), 40);
  table_->setRowCount(static_cast<int>(changes.size()));
  for (int r = 0; r < table_->rowCount(); ++r) {
    const run::Change& c = changes[static_cast<std::size_t>(r)];
    const double share = std::abs(c.before) > 1e-12 ? 100 * (c.after / c.before - 1) : std::nan("");
    const QString change =
        std::isnan(share) ? QString() : QString("%1%2 %").arg(share > 0 ? "+" : "").arg(share, 0, 'f', 1);
    const QString cells[] = {QString::fromStdString(c.what), words(c, c.before), words(c, c.after), change};
    for (int k = 0; k < 4; ++k) {
      auto* item = new QTableWidgetItem(cells[k]);
      if (k > 0) item->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
      table_->setItem(r, k, item);
    }
  }
}

}  // namespace calm::app
