// UI tests need an application before any widget.

#include <gtest/gtest.h>

#include <QApplication>
#include <QTemporaryDir>
#include <chrono>
#include <filesystem>
#include <thread>

#include "style/theme.h"

/// For the leak check of the sanitizer build: fontconfig keeps patterns of its own until the process ends, and HDF5
/// does not free all it took for a file that proves damaged.
extern "C" const char* __lsan_default_suppressions() { return "leak:libfontconfig\nleak:libhdf5\n"; }

namespace {

/// Qt's threads are detached: they count as over before the system has taken them down, and the leak check, which stops
/// and reads every thread when the process ends, fails on one it meets half taken down. So wait until they are gone.
void waitUntilThreadsAreGone() {
    using namespace std::chrono;
    const auto others = [] {
        const std::filesystem::directory_iterator tasks("/proc/self/task");
        return std::distance(begin(tasks), end(tasks)) - 1;
    };
    for (const auto limit = steady_clock::now() + seconds(5); others() > 0 && steady_clock::now() < limit;)
        std::this_thread::sleep_for(milliseconds(2));
}

}  // namespace

int main(int argc, char** argv) {
    testing::InitGoogleTest(&argc, argv);
    if (qEnvironmentVariableIsEmpty("QT_QPA_PLATFORM")) qputenv("QT_QPA_PLATFORM", "offscreen");
    // Never touch the folders of the user.
    static QTemporaryDir state;
    if (qEnvironmentVariableIsEmpty("HEDGEROW_TEST_CHILD"))
        for (const char* folder : {"XDG_STATE_HOME", "XDG_DATA_HOME"}) qputenv(folder, state.path().toUtf8());
    int failed = 0;
    {
        QApplication application(argc, argv);
        hedgerow::app::applyTheme(application, hedgerow::app::Theme::light);
        failed = RUN_ALL_TESTS();
    }
    waitUntilThreadsAreGone();
    return failed;
}
