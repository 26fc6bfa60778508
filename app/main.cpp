#include <QApplication>
#include <QFileInfo>
#include <csignal>
#include <cstdio>

#include "application.hpp"
#include "elastic/solve.hpp"
#include "main_window.hpp"
#include "theme/theme.hpp"

int main(int argc, char** argv) {
    std::signal(SIGXFSZ, SIG_IGN);  // a file that grows beyond a limit is told like a full disk
    escultura::app::Application application(argc, argv);
    QApplication::setApplicationName("Escultura");
    QApplication::setApplicationVersion(ESCULTURA_VERSION);
    const QStringList arguments = QApplication::arguments();
    if (arguments.size() > 2 || arguments.contains("--help")) {
        std::printf("usage: escultura [PART.json or PROJECT.escultura]\n");
        return arguments.contains("--help") ? 0 : 2;
    }
    escultura::app::theme::apply(application);
    escultura::app::MainWindow window;
    application.problem = [&window](const QString& message) { emit window.session().failed(message); };
    window.show();
    if (arguments.size() == 2 && !window.session().isBusy()) {
        // a part file is built and checked at once, so that there is something to look at
        if (arguments[1].endsWith(".json")) window.runWhenOpened();
        window.open(QFileInfo(arguments[1]).absoluteFilePath());
    }
    const int code = QApplication::exec();
    application.problem = {};
    escultura::elastic::waitForAbandonedSolutions();
    return code;
}
