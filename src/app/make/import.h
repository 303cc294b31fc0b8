// SPDX-License-Identifier: GPL-3.0-or-later
// Import: parts that stand in for the meshes of a file, with a check of how well they do. Reading and fitting happen
// off the window's thread; what comes too late for the present choices is dropped.
#pragma once

#include "app/make/maker.h"
#include "exchange/mesh/stand_in.h"

class QCheckBox;

namespace calm::app {

class ImportMaker : public Maker {
  Q_OBJECT
 public:
  ImportMaker(Session& session, QWidget* parent);
  void take(const Pick&) override {}
  void choose(const QString& file);
  bool isFitting() const { return asked_ != fittedFor_; }

 private:
  // What a job brings back.
  struct Fit {
    std::vector<exchange::ImportedMesh> meshes;
    std::vector<rig::Part> parts;
    std::vector<FitCheck> checks;
    QString fault;
  };
  QString preview(Preview& preview) override;
  QString stepName() const override;
  void apply(rig::Rig& rig) override;
  void fit();
  QString words() const;

  QLineEdit* file_;
  QComboBox *unit_, *up_, *kind_;
  QSpinBox* pieces_;
  Field* density_;
  QLabel* outcome_;
  Fit fit_;
  int asked_ = 0, fittedFor_ = 0;  // serial numbers of choices
};

}  // namespace calm::app
