// SPDX-License-Identifier: GPL-3.0-or-later
// Rigs and meshes that come into the window and leave it, and nothing lost on the way.
#include <QCloseEvent>
#include <QDropEvent>
#include <QFileDialog>
#include <QLabel>
#include <QMenu>
#include <QMessageBox>
#include <QMimeData>
#include <QSettings>

#include "app/make/import.h"
#include "app/recovery.h"
#include "app/window.h"

namespace calm::app {

bool Window::isMesh(const QString& file) {
  static const QStringList kinds{"obj", "stl", "ply", "gltf", "glb"};
  return kinds.contains(QFileInfo(file).suffix().toLower());
}

void Window::import(const QString& file) {
  if (!qobject_cast<ImportMaker*>(maker_)) openPanel("import");
  static_cast<ImportMaker*>(maker_)->choose(file);
}

// Files may be dropped anywhere: meshes are imported, anything else is opened as a rig.
void Window::dragEnterEvent(QDragEnterEvent* event) {
  if (event->mimeData()->hasUrls()) event->acceptProposedAction();
}

void Window::dropEvent(QDropEvent* event) {
  const QList<QUrl> urls = event->mimeData()->urls();
  if (urls.isEmpty()) return;
  const QString file = urls.front().toLocalFile();
  if (isMesh(file))
    import(file);
  else if (mayLeave() && session_.open(file))
    noteRecent();
}

bool Window::mayLeave() {
  if (!session_.unsaved()) return true;
  const auto answer =
      QMessageBox::question(this, tr("Calm Tether"), tr("\"%1\" has changes that are not saved.").arg(title_->text()),
                            QMessageBox::Save | QMessageBox::Discard | QMessageBox::Cancel);
  return answer == QMessageBox::Discard || (answer == QMessageBox::Save && saveFile(false));
}

void Window::offerRecovery(const QString& folder) {
  for (const QString& copy : Recovery::leftBehind(folder)) {
    const QString when = QFileInfo(copy).lastModified().toString("d MMMM, hh:mm");
    const auto answer = QMessageBox::question(this, tr("Calm Tether"),
                                              tr("Work that was not saved was left behind on %1. Open it?").arg(when),
                                              QMessageBox::Open | QMessageBox::Discard | QMessageBox::Cancel);
    if (answer == QMessageBox::Cancel) continue;
    if (answer == QMessageBox::Open && !session_.recover(copy)) continue;
    QFile::remove(copy);
    if (answer == QMessageBox::Open) return;
  }
}

void Window::noteRecent() {
  if (session_.path().isEmpty()) return;
  QSettings settings;
  QStringList recent = settings.value("recent").toStringList();
  const QString path = QFileInfo(session_.path()).absoluteFilePath();
  if (!recent.isEmpty() && recent.front() == path) return;
  recent.removeAll(path);
  recent.prepend(path);
  settings.setValue("recent", recent.mid(0, 9));
}

void Window::fillRecent() {
  recent_->clear();
  for (const QString& path : QSettings().value("recent").toStringList())
    recent_->addAction(path, this, [this, path] {
      if (mayLeave()) session_.open(path);
    });
  if (recent_->isEmpty()) recent_->addAction(tr("none yet"))->setEnabled(false);
}

void Window::newRig() {
  if (mayLeave()) session_.show({});
}

void Window::openFile() {
  if (!mayLeave()) return;
  const QString path = QFileDialog::getOpenFileName(this, tr("Open a rig"), {}, tr("Rigs (*.rig.json *.json)"));
  if (!path.isEmpty()) session_.open(path);
}

bool Window::saveFile(bool as) {
  QString path = session_.path();
  if (as || path.isEmpty())
    path = QFileDialog::getSaveFileName(this, tr("Save the rig"), path, tr("Rigs (*.rig.json)"));
  if (path.isEmpty()) return false;
  if (!path.endsWith(".json")) path += ".rig.json";
  return session_.save(path);
}

void Window::closeEvent(QCloseEvent* event) {
  mayLeave() ? event->accept() : event->ignore();
}

}  // namespace calm::app
