#include <QApplication>
#include <QFileInfo>
#include <csignal>
#include <cstdio>

#include "application.hpp"
#include "elastic/solve.hpp"
#include "main_window.hpp"
#include "settings.hpp"
#include "theme/theme.hpp"

int main(int argc, char** argv) {
    std::signal(SIGXFSZ, SIG_IGN);  // a file that grows beyond a limit is told like a full disk
    escultura::app::Application application(argc, argv);
    QApplication::setApplicationName("Escultura");
    QApplication::setApplicationVersion(ESCULTURA_VERSION);
    QStringList arguments = QApplication::arguments();
    const bool run = arguments.removeAll("--run") > 0;
    if (arguments.size() > 2 || arguments.contains("--help")) {
        std::printf(
            "usage: escultura [--run] [PART.json or PROJECT.escultura]\n"
            "--run: build and check the part at once\n");
        return arguments.contains("--help") ? 0 : 2;
    }
    const auto kept = escultura::app::settings();
    escultura::app::theme::apply(application, kept->value("looks/dark", false).toBool(),
                                 kept->value("looks/words", 100).toInt());
    escultura::app::MainWindow window;
    application.problem = [&window](const QString& message) { emit window.session().failed(message); };
    window.show();
    if (arguments.size() == 2 && !window.session().isBusy()) {
        if (run) window.runWhenOpened();
        window.open(QFileInfo(arguments[1]).absoluteFilePath());
    }
    const int code = QApplication::exec();
    application.problem = {};
    escultura::elastic::waitForAbandonedSolutions();
    return code;
}
