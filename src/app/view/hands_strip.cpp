// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/view/hands_strip.h"

#include <QHBoxLayout>
#include <QLabel>
#include <QPushButton>
#include <QTimer>

#include "app/card/field.h"
#include "app/look/look.h"
#include "app/view/view.h"

namespace calm::app {

namespace {
constexpr Hands::Tool kTools[] = {Hands::Tool::none, Hands::Tool::grab, Hands::Tool::push, Hands::Tool::toss,
                                  Hands::Tool::gust};
}

HandsStrip::HandsStrip(View& view, QWidget* parent) : QFrame(parent), view_(view) {
  setObjectName("handsStrip");
  setAccessibleName(tr("Hands"));
  setStyleSheet(QString("#handsStrip { border: 1px solid %1; border-radius: 8px; }").arg(look::kHairline.name()));
  auto* row = new QHBoxLayout(this);
  row->setContentsMargins(8, 5, 8, 5);
  row->setSpacing(4);
  const std::pair<QString, QString> words[] = {{tr("Select"), tr("Choose and move (Esc)")},
                                               {tr("Grab  5"), tr("Take hold of a part while it runs")},
                                               {tr("Push  6"), tr("Push with a body")},
                                               {tr("Throw  7"), tr("Throw a ball where you click")},
                                               {tr("Gust  8"), tr("Let a gust blow away from you")}};
  for (std::size_t i = 0; i < std::size(kTools); ++i) {
    auto* button = new QPushButton(words[i].first);
    button->setToolTip(words[i].second);
    button->setAccessibleName(words[i].first.section(' ', 0, 0));
    button->setFixedHeight(26);
    button->setCheckable(true);
    button->setFocusPolicy(Qt::TabFocus);
    row->addWidget(button);
    buttons_ << button;
    connect(button, &QPushButton::clicked, this, [this, tool = kTools[i]] {
      if (tool != view_.hands().tool()) return choose(tool);
      refresh();
    });
  }
  word_ = new QLabel;
  word_->setProperty("muted", true);
  row->addWidget(word_);
  slot_ = new QWidget;
  auto* slot = new QHBoxLayout(slot_);
  slot->setContentsMargins(0, 0, 0, 0);
  row->addWidget(slot_);
  refresh();
}

double* HandsStrip::value() const {
  Hands& hands = view_.hands();
  switch (hands.tool()) {
    case Hands::Tool::grab:
    case Hands::Tool::push:
      return &hands.strength;
    case Hands::Tool::toss:
      return &hands.ballMass;
    case Hands::Tool::gust:
      return &hands.windSpeed;
    default:
      return nullptr;
  }
}

void HandsStrip::choose(Hands::Tool tool) {
  view_.setTool(tool == Hands::Tool::none ? view_.hands().tool() : tool);
  refresh();
}

void HandsStrip::refresh() {
  const Hands::Tool tool = view_.hands().tool();
  for (qsizetype i = 0; i < buttons_.size(); ++i) buttons_[i]->setChecked(kTools[i] == tool);
  if (field_) field_->deleteLater();
  field_ = nullptr;
  double* shown = value();
  slot_->setVisible(shown);
  word_->setVisible(shown);
  if (shown) {
    const bool ball = tool == Hands::Tool::toss, wind = tool == Hands::Tool::gust;
    word_->setText(ball ? tr("mass") : wind ? tr("speed") : tr("at most"));
    field_ = new Field(ball ? rig::Dimension::mass : wind ? rig::Dimension::speed : rig::Dimension::force, *shown);
    field_->setAccessibleName(tr("Hand's strength"));
    field_->setFixedWidth(84);
    slot_->layout()->addWidget(field_);
    connect(field_, &QLineEdit::textEdited, this, [this] {
      if (const auto typed = field_->value(); typed && *typed > 0) *value() = *typed;
    });
  }
  // Once the layout knows of the field that came or went.
  QTimer::singleShot(0, this, [this] {
    adjustSize();
    emit resized();
  });
}

}  // namespace calm::app
