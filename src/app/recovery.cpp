// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/recovery.h"

#include <signal.h>

#include <QCoreApplication>
#include <QDir>
#include <QStandardPaths>

#include "rig/file.h"

namespace calm::app {

namespace {
constexpr int kEvery = 3000;  // ms
}

Recovery::Recovery(Session& session, const QString& folder, QObject* parent)
    : QObject(parent),
      session_(session),
      file_(QString("%1/%2.rig.json").arg(folder).arg(QCoreApplication::applicationPid())) {
  QDir().mkpath(folder);
  timer_.setInterval(kEvery);
  connect(&timer_, &QTimer::timeout, this, &Recovery::keep);
  timer_.start();
}

Recovery::~Recovery() {
  QFile::remove(file_);
}

QString Recovery::usualFolder() {
  return QStandardPaths::writableLocation(QStandardPaths::AppLocalDataLocation) + "/recovery";
}

QStringList Recovery::leftBehind(const QString& folder) {
  QStringList files;
  for (const QFileInfo& info : QDir(folder).entryInfoList({"*.rig.json"}, QDir::Files, QDir::Time)) {
    bool known = false;
    const auto process = info.fileName().section('.', 0, 0).toInt(&known);
    const bool alive = known && kill(process, 0) == 0;
    if (!alive) files << info.absoluteFilePath();
  }
  return files;
}

void Recovery::keep() {
  if (!session_.unsaved()) {
    if (kept_) QFile::remove(file_);
    kept_ = nullptr;
    return;
  }
  const rig::RigPtr now = session_.history().snapshot();
  if (now == kept_) return;
  try {
    rig::saveRig(*now, file_.toStdString());
    kept_ = now;
  } catch (const std::exception& e) {
    emit session_.message(tr("unsaved work cannot be kept safe: %1").arg(e.what()), true);
    timer_.stop();
  }
}

}  // namespace calm::app
