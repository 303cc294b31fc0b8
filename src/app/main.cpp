// SPDX-License-Identifier: GPL-3.0-or-later
// calm-tether [RIG], and options to keep a picture of the window.
#include <QApplication>
#include <QCommandLineParser>
#include <QElapsedTimer>
#include <QIcon>
#include <cstdio>

#include "app/make/maker.h"
#include "app/recovery.h"
#include "app/session.h"
#include "app/window.h"
#include "rig/demos.h"

namespace {

// Waits for the run to be computed, shows the moment, and keeps a picture of the window.
int takePicture(calm::app::Session& session, calm::app::Window& window, const QString& file, double at,
                const QString& late) {
  QElapsedTimer waited;
  waited.start();
  while ((session.computing() || window.isImporting()) && waited.elapsed() < 120000)
    QApplication::processEvents(QEventLoop::AllEvents, 20);
  if (!window.maker()) {
    session.setPlaying(false);
    session.setPlayhead(at);
  }
  // What is asked of a finished run.
  if (late == "why" || late == "effort") window.openPanel(late);
  while (window.isAsking() && waited.elapsed() < 120000) QApplication::processEvents(QEventLoop::AllEvents, 20);
  for (int i = 0; i < 10; ++i) QApplication::processEvents(QEventLoop::AllEvents, 30);
  if (window.grab().save(file)) return 0;
  std::fprintf(stderr, "calm-tether: %s: cannot be written\n", qPrintable(file));
  return 1;
}

}  // namespace

int main(int argc, char** argv) {
  QApplication app(argc, argv);
  QApplication::setApplicationName("calm-tether");
  QApplication::setApplicationDisplayName("Calm Tether");
  QApplication::setApplicationVersion(CALM_VERSION);
  QApplication::setDesktopFileName("calm-tether");
  QApplication::setStyle("Fusion");
  QCommandLineParser parser;
  parser.setApplicationDescription("Calm Tether: a bench for joints");
  parser.addHelpOption();
  parser.addVersionOption();
  parser.addPositionalArgument(
      "rig", "A rig file to open, or a mesh to import; without one the jib hoist of Saltmarsh Quay.", "[rig]");
  const QCommandLineOption picture("picture", "Keep a picture of the window as <file> (PNG) and leave.", "file");
  const QCommandLineOption at("at", "The moment of the run that the picture shows, in seconds.", "seconds", "3");
  const QCommandLineOption pick("select", "Select the part, joint or line of this name.", "name");
  const QCommandLineOption panel("panel",
                                 "Open a panel: part, joint, line, kit, import, copies, joints, cut, share, expect, "
                                 "cue, traces, sweep, runs, effort, "
                                 "advice, find or why.",
                                 "name");
  parser.addOptions({picture, at, pick, panel});
  parser.process(app);

  calm::app::Session session;
  calm::app::Window window(session);
  const QStringList files = parser.positionalArguments();
  if (files.isEmpty()) {
    session.show(calm::rig::jibHoistSlice());
  } else if (calm::app::Window::isMesh(files.front())) {
    session.show({});
  } else if (!session.open(files.front())) {
    std::fprintf(stderr, "calm-tether: %s\n", qPrintable(session.lastFault()));
    if (parser.isSet(picture)) return 1;
  }
  window.show();
  session.setPlaying(true);
  const QString folder = calm::app::Recovery::usualFolder();
  if (!parser.isSet(picture)) window.offerRecovery(folder);
  const calm::app::Recovery recovery(session, folder);
  if (!files.isEmpty() && calm::app::Window::isMesh(files.front())) window.import(files.front());
  if (parser.isSet(pick)) session.selectByName(parser.value(pick));
  if (parser.isSet(panel) && parser.value(panel) != "why" && parser.value(panel) != "effort")
    window.openPanel(parser.value(panel));
  if (parser.isSet(picture))
    return takePicture(session, window, parser.value(picture), parser.value(at).toDouble(), parser.value(panel));
  return QApplication::exec();
}
