// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/make/maker.h"

#include <QFormLayout>
#include <QKeyEvent>
#include <QVBoxLayout>

#include "app/look/look.h"

namespace calm::app {

PointField::PointField(const QString& name, QWidget* parent) : QWidget(parent) {
  auto* layout = new QHBoxLayout(this);
  layout->setContentsMargins(0, 0, 0, 0);
  layout->setSpacing(4);
  const char* axes[] = {"x", "y", "z"};
  for (int i = 0; i < 3; ++i) {
    axes_[i] = new Field(rig::Dimension::length, 0);
    axes_[i]->setAccessibleName(name + " " + axes[i]);
    axes_[i]->setToolTip(axes[i]);
    layout->addWidget(axes_[i]);
    connect(axes_[i], &QLineEdit::textEdited, this, &PointField::changed);
  }
}

void PointField::setPoint(const Vec3& point) {
  for (int i = 0; i < 3; ++i) axes_[i]->setValue(point[i]);
  emit changed();
}

std::optional<Vec3> PointField::point() const {
  Vec3 p;
  for (int i = 0; i < 3; ++i) {
    const auto v = axes_[i]->value();
    if (!v) return std::nullopt;
    p[i] = *v;
  }
  return p;
}

Maker::Maker(Session& session, const QString& title, const QString& hint, const QString& verb, QWidget* parent)
    : QFrame(parent), session_(session) {
  setObjectName("maker");
  setStyleSheet(QString("#maker { border: 1px solid %1; border-radius: 8px; }").arg(look::kHairline.name()));
  setFixedWidth(300);
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(14, 10, 14, 12);
  auto* head = new QLabel(title);
  head->setFont(look::font(look::Size::heading, true));
  column->addWidget(head);
  auto* words = new QLabel(hint);
  words->setWordWrap(true);
  words->setProperty("muted", true);
  words->setFont(look::font(look::Size::small));
  column->addWidget(words);
  body_ = new QScrollArea;
  body_->setFrameShape(QFrame::NoFrame);
  body_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  body_->setWidgetResizable(true);
  body_->setFocusPolicy(Qt::NoFocus);
  body_->setWidget(new QWidget);
  form_ = new QFormLayout(body_->widget());
  form_->setContentsMargins(0, 0, 0, 0);
  form_->setHorizontalSpacing(8);
  form_->setVerticalSpacing(2);
  column->addWidget(body_);
  fault_ = new QLabel;
  fault_->setWordWrap(true);
  fault_->setProperty("fault", true);
  fault_->setFont(look::font(look::Size::small));
  column->addWidget(fault_);
  auto* row = new QHBoxLayout;
  auto* cancel = new QPushButton(tr("Cancel"));
  button_ = new QPushButton(verb);
  button_->setProperty("primary", true);
  button_->setObjectName("make");
  row->addWidget(cancel);
  row->addWidget(button_);
  column->addLayout(row);
  connect(cancel, &QPushButton::clicked, this, &Maker::done);
  connect(button_, &QPushButton::clicked, this, &Maker::make);
}

void Maker::refresh() {
  Preview& preview = session_.preview();
  preview = {};
  const QString fault = this->preview(preview);
  fault_->setText(fault);
  fault_->setVisible(!fault.isEmpty());
  button_->setEnabled(fault.isEmpty());
  session_.previewChanged();
  fit();
}

// As tall as its choices, or as there is room for; then they scroll and the buttons stay in sight.
void Maker::fit() {
  constexpr int kMargins = 24, kLeast = 80;
  const int wanted = body_->widget()->sizeHint().height();
  const auto give = [this](int choices) {
    body_->setFixedHeight(choices);
    adjustSize();
    // The hint above them takes as many lines as the width makes of it.
    if (layout()->hasHeightForWidth()) resize(width(), layout()->totalHeightForWidth(width()));
  };
  give(wanted);
  const int over = height() + kMargins - parentWidget()->height();
  if (over > 0) give(std::max(kLeast, wanted - over));
}

void Maker::make() {
  if (!button_->isEnabled()) return;
  if (!session_.edit(stepName(), [this](rig::Rig& rig) { apply(rig); })) return;
  session_.preview() = {};
  session_.select(made_);
  emit done();
}

void Maker::addRow(const QString& label, QWidget* field) {
  form_->addRow(label, field);
}

Field* Maker::addField(const QString& label, rig::Dimension dimension, double value) {
  auto* field = new Field(dimension, value);
  field->setAccessibleName(label);
  addRow(label, field);
  connect(field, &QLineEdit::textEdited, this, &Maker::refresh);
  return field;
}

QComboBox* Maker::addChoice(const QString& label, const QStringList& choices) {
  auto* box = new QComboBox;
  box->addItems(choices);
  box->setAccessibleName(label);
  addRow(label, box);
  connect(box, &QComboBox::currentIndexChanged, this, &Maker::refresh);
  return box;
}

QComboBox* Maker::addPartChoice(const QString& label, bool withWorld) {
  QComboBox* box = addChoice(label, {});
  const QSignalBlocker quiet(box);
  if (withWorld) box->addItem(tr("world"), rig::kNone);
  for (const rig::Part& p : session_.rig().parts) box->addItem(QString::fromStdString(p.name), p.id);
  box->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
  return box;
}

void Maker::showRow(QWidget* field, bool shown) {
  field->setVisible(shown);
  if (QWidget* label = form_->labelForField(field)) label->setVisible(shown);
}

void Maker::keyPressEvent(QKeyEvent* event) {
  if (event->key() == Qt::Key_Escape) {
    emit done();
  } else if (event->key() == Qt::Key_Return || event->key() == Qt::Key_Enter) {
    make();
  } else {
    QFrame::keyPressEvent(event);
  }
}

}  // namespace calm::app
