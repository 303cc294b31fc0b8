// SPDX-License-Identifier: GPL-3.0-or-later
// A sheet of paper over the View: a heading, a button that closes it, and what its owner adds below.
#pragma once

#include <QFrame>
#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>

#include "app/look/look.h"

namespace calm::app {

class FloatingPanel : public QFrame {
 public:
  FloatingPanel(const QString& objectName, const QString& accessibleName, QWidget* parent) : QFrame(parent) {
    setObjectName(objectName);
    setAccessibleName(accessibleName);
    setStyleSheet(QString("#%1 { border: 1px solid %2; border-radius: 8px; background: %3; }")
                      .arg(objectName, look::kHairline.name(), look::kPaper.name()));
    column_ = new QVBoxLayout(this);
    column_->setContentsMargins(16, 12, 16, 12);
    auto* row = new QHBoxLayout;
    head_ = new QLabel;
    head_->setFont(look::font(look::Size::heading, true));
    head_->setWordWrap(true);
    row->addWidget(head_, 1);
    close_ = new QPushButton(tr("Close"));
    row->addWidget(close_, 0, Qt::AlignTop);
    column_->addLayout(row);
    hide();
  }

 protected:
  // In the middle of what the Card leaves free.
  void popUp() {
    constexpr int kWidth = 560, kHeight = 380, kTop = 90;
    setGeometry((parentWidget()->width() - look::kCardWidth - kWidth) / 2, kTop, kWidth, kHeight);
    show();
    raise();
  }

  QVBoxLayout* column_;
  QLabel* head_;
  QPushButton* close_;
};

}  // namespace calm::app
