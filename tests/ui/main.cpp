// UI tests need an application before any widget.

#include <gtest/gtest.h>

#include <QApplication>
#include <QTemporaryDir>

#include "style/theme.h"

/// For the leak check of the sanitizer build: fontconfig keeps patterns of its own until the process ends, and HDF5
/// does not free all it took for a file that proves damaged.
extern "C" const char* __lsan_default_suppressions() { return "leak:libfontconfig\nleak:libhdf5\n"; }

int main(int argc, char** argv) {
    testing::InitGoogleTest(&argc, argv);
    if (qEnvironmentVariableIsEmpty("QT_QPA_PLATFORM")) qputenv("QT_QPA_PLATFORM", "offscreen");
    // Never touch the folders of the user.
    static QTemporaryDir state;
    if (qEnvironmentVariableIsEmpty("HEDGEROW_TEST_CHILD"))
        for (const char* folder : {"XDG_STATE_HOME", "XDG_DATA_HOME"}) qputenv(folder, state.path().toUtf8());
    QApplication application(argc, argv);
    hedgerow::app::applyTheme(application, hedgerow::app::Theme::light);
    return RUN_ALL_TESTS();
}
