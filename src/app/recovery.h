// SPDX-License-Identifier: GPL-3.0-or-later
// Copies of unsaved work, kept while it is unsaved, and found again after a crash.
#pragma once

#include <QObject>
#include <QTimer>

#include "app/session.h"

namespace calm::app {

class Recovery : public QObject {
  Q_OBJECT
 public:
  // Keeps this session's copy in the folder, under the number of this process.
  Recovery(Session& session, const QString& folder, QObject* parent = nullptr);
  // The work is done or thrown away on purpose: the copy goes.
  ~Recovery() override;

  // Where copies are kept unless told otherwise.
  static QString usualFolder();
  // Copies whose process has ended without taking them away, newest first.
  static QStringList leftBehind(const QString& folder);

  // Writes the copy now, if there is unsaved work that it does not have; takes it away if all is saved.
  void keep();
  QString file() const { return file_; }

 private:
  Session& session_;
  QString file_;
  rig::RigPtr kept_;
  QTimer timer_;
};

}  // namespace calm::app
