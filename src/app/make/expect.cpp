// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/make/expect.h"

#include "run/expect.h"

namespace calm::app {

namespace {
using Kind = rig::Expectation::Kind;

double quantity(const QLineEdit* field, rig::Dimension dimension, double none) {
  if (field->text().trimmed().isEmpty()) return none;
  const auto value = rig::parseQuantity(field->text().toStdString(), dimension);
  if (!value)
    throw std::invalid_argument(QObject::tr("\"%1\" is no such quantity; type for example %2")
                                    .arg(field->text(), QString::fromStdString(rig::formatQuantity(2, dimension)))
                                    .toStdString());
  return *value;
}
}  // namespace

ExpectMaker::ExpectMaker(Session& session, QWidget* parent)
    : Maker(session, tr("Expect"), tr("Checked after every run, here and by the command line's check."), tr("Pin it"),
            parent) {
  kind_ = addChoice(tr("What"), {tr("holds"), tr("parts"), tr("comes to rest"), tr("stays within"), tr("reaches"),
                                 tr("keeps its energy")});
  of_ = addChoice(tr("Of"), {});
  {
    const QSignalBlocker quiet(of_);
    of_->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
    of_->addItem(tr("all of it"), rig::kNone);
    for (const rig::Joint& j : session.rig().joints) of_->addItem(QString::fromStdString(j.name), j.id);
    for (const rig::Part& p : session.rig().parts) of_->addItem(QString::fromStdString(p.name), p.id);
    of_->setCurrentIndex(std::max(0, of_->findData(session.selected())));
  }
  reading_ = addChoice(tr("Reading"), {});
  reading_->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
  const auto line = [&](const QString& label) {
    auto* field = new QLineEdit;
    field->setAccessibleName(label);
    field->setPlaceholderText(tr("none"));
    addRow(label, field);
    connect(field, &QLineEdit::textEdited, this, &Maker::refresh);
    return field;
  };
  low_ = line(tr("Least"));
  high_ = line(tr("Most"));
  speed_ = addField(tr("Slower than"), rig::Dimension::speed, 0.05);
  share_ = addField(tr("Within, %"), rig::Dimension::number, 1);
  from_ = addField(tr("From"), rig::Dimension::time, 0);
  until_ = addField(tr("Until"), rig::Dimension::time, 0);
  until_->setMaySayNothing(true);
  until_->clear();
  until_->setPlaceholderText(tr("the end"));
  outcome_ = new QLabel;
  outcome_->setObjectName("outcome");
  outcome_->setWordWrap(true);
  addRow(QString(), outcome_);
  connect(of_, &QComboBox::currentIndexChanged, this, &ExpectMaker::listReadings);
  listReadings();
}

void ExpectMaker::listReadings() {
  const QSignalBlocker quiet(reading_);
  reading_->clear();
  readings_ = rig::readingsOf(of_->currentData().toInt(), session_.rig());
  for (const rig::Reading& r : readings_) {
    const QString text = QString::fromStdString(rig::textOf(r, session_.rig()));
    reading_->addItem(text.section(" of ", 0, 0));
  }
}

rig::Expectation ExpectMaker::expectation() const {
  rig::Expectation e;
  e.kind = static_cast<Kind>(kind_->currentIndex());
  const bool ofReading = e.kind == Kind::stays || e.kind == Kind::reaches;
  if (ofReading) {
    if (reading_->currentIndex() < 0) throw std::invalid_argument("choose a reading");
    e.reading = readings_[static_cast<std::size_t>(reading_->currentIndex())];
    const rig::Dimension dimension = rig::dimensionOf(e.reading, session_.rig());
    e.low = quantity(low_, dimension, -HUGE_VAL);
    if (e.kind == Kind::stays) e.high = quantity(high_, dimension, HUGE_VAL);
  } else if (e.kind != Kind::energy) {
    e.of = of_->currentData().toInt();
  }
  if (e.kind == Kind::settles) e.high = speed_->value().value_or(0);
  if (e.kind == Kind::energy) e.high = share_->value().value_or(0) / 100;
  e.from = from_->value().value_or(-1);
  if (!until_->text().trimmed().isEmpty()) e.until = until_->value().value_or(-1);
  if (const std::string fault = rig::faultOf(e, session_.rig()); !fault.empty()) throw std::invalid_argument(fault);
  return e;
}

QString ExpectMaker::preview(Preview&) {
  const auto kind = static_cast<Kind>(kind_->currentIndex());
  const bool ofReading = kind == Kind::stays || kind == Kind::reaches;
  showRow(of_, kind != Kind::energy);
  showRow(reading_, ofReading);
  showRow(low_, ofReading);
  showRow(high_, kind == Kind::stays);
  showRow(speed_, kind == Kind::settles);
  showRow(share_, kind == Kind::energy);
  outcome_->clear();
  try {
    const rig::Expectation e = expectation();
    QString words = QString::fromStdString(rig::textOf(e, session_.rig()));
    if (session_.hasFrames() && !session_.computing()) {
      const run::Verdict verdict = run::judge(*session_.recording(), e);
      words += tr("\nThis run: %1, %2")
                   .arg(verdict.met ? tr("met") : tr("not met"), QString::fromStdString(verdict.evidence));
    }
    outcome_->setText(words + ".");
  } catch (const std::exception& e) {
    return QString::fromStdString(e.what());
  }
  return {};
}

void ExpectMaker::apply(rig::Rig& rig) {
  rig.expectations.push_back(expectation());
  made_.clear();
}

void ExpectMaker::take(const Pick& pick) {
  const rig::Id id = pick.joint != rig::kNone ? pick.joint : pick.part;
  of_->setCurrentIndex(std::max(0, of_->findData(id)));
}

}  // namespace calm::app
