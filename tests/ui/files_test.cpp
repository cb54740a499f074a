// Opening, saving, and coming back after a crash.

#include <gtest/gtest.h>

#include <csignal>
#include <fstream>

#include <QProcess>
#include <QTemporaryDir>

#include "formats/hedge/hedge.h"
#include "files/recovery.h"
#include "ui/window.h"

using namespace hedgerow;
using namespace hedgerow::test;

TEST(Files, SaveAndOpenAgain) {
    QTemporaryDir folder;
    const QString path = folder.filePath("a.hedge");
    Window window;
    window.place("r 4k7", {240, 200});
    ASSERT_TRUE(window.workspace().save(path));
    EXPECT_FALSE(window.workspace().history().modified());
    Window other;
    ASSERT_TRUE(other->open(path));
    ASSERT_EQ(other.workspace().project().sheet().parts.size(), 1u);
    EXPECT_EQ(*other.workspace().project().sheet().parts[0].values.find("r"), "4k7");
    EXPECT_FALSE(other->open(folder.filePath("missing.hedge")));
    EXPECT_EQ(other.workspace().project().sheet().parts.size(), 1u) << "a failed open leaves the project";
}

TEST(Files, ANewerProjectIsNotSavedOver) {
    QTemporaryDir folder;
    const QString path = folder.filePath("newer.hedge");
    std::ofstream(path.toStdString()) << R"({"hedgerow": 99, "sheets": [{"name": "main"}], "future": {"x": 1}})";
    Window window;
    ASSERT_TRUE(window->open(path));
    EXPECT_TRUE(window.workspace().readOnly());
    EXPECT_FALSE(window.workspace().save(path));
    EXPECT_TRUE(window.workspace().save(folder.filePath("copy.hedge")));
}

// The real program, killed in the middle of work, offers that work at its next start.
TEST(Files, UnsavedWorkSurvivesAKill) {
    QTemporaryDir state;
    const auto folder = std::filesystem::path(state.path().toStdString()) / "hedgerow" / "recovery";
    QProcess program;
    QProcessEnvironment environment = QProcessEnvironment::systemEnvironment();
    environment.insert("XDG_STATE_HOME", state.path());
    environment.insert("HEDGEROW_TEST_CHILD", "1");
    program.setProcessEnvironment(environment);
    // A child of this test binary plays the user: it opens the example, edits, waits for the copy, and is killed.
    program.start(QCoreApplication::applicationFilePath(),
                  {"--gtest_also_run_disabled_tests", "--gtest_filter=Files.DISABLED_EditUntilKilled"});
    ASSERT_TRUE(program.waitForStarted());
    const auto keptFile = [&]() -> std::filesystem::path {
        std::error_code error;
        for (std::filesystem::directory_iterator at(folder, error), end; !error && at != end; ++at)
            if (at->path().extension() == ".json") return at->path();
        return {};
    };
    ASSERT_TRUE(QTest::qWaitFor([&] { return !keptFile().empty(); }, 40'000));
    EXPECT_TRUE(RecoverySlot::pending(folder).empty()) << "the work of a living process is its own";
    program.kill();
    ASSERT_TRUE(program.waitForFinished());

    auto pending = RecoverySlot::pending(folder);
    ASSERT_EQ(pending.size(), 1u);
    EXPECT_TRUE(QString::fromStdString(pending[0].originalPath).endsWith("med-aux.hedge"));
    Window window;
    window.workspace().setRecoverySlot(std::make_unique<RecoverySlot>(folder));
    const std::filesystem::path old = pending[0].slot;
    window->offerRecovery(std::move(pending));
    window.settle();
    auto* recover = window.find<QPushButton>("recover");
    ASSERT_TRUE(recover);
    ASSERT_TRUE(recover->isVisible());
    QTest::mouseClick(recover, Qt::LeftButton);
    window.settle();
    EXPECT_TRUE(window.workspace().project().findPart("Rextra"));
    EXPECT_TRUE(window.workspace().history().modified()) << "recovered work is unsaved work";
    EXPECT_FALSE(std::filesystem::exists(old)) << "taken over";
    EXPECT_FALSE(keptFile().empty()) << "by this session";
}

TEST(Files, DISABLED_EditUntilKilled) {
    Window window;
    window.workspace().setRecoverySlot(std::make_unique<RecoverySlot>(RecoverySlot::standardFolder()));
    ASSERT_TRUE(window->open(QString(HEDGEROW_SHARED "/examples") + "/med-aux.hedge"));
    window.place("r 5", {850, 100});
    window.sheet().setFocus();
    window.key(Qt::Key_F2);
    window.type("Rextra");
    window.key(Qt::Key_Return);
    QTest::qWait(60'000);
}

TEST(Files, AnOrderlyEndLeavesNothingBehind) {
    QTemporaryDir folder;
    {
        Window window;
        window.workspace().setRecoverySlot(std::make_unique<RecoverySlot>(folder.path().toStdString()));
        window.place("r 5", {240, 200});
        ASSERT_TRUE(QTest::qWaitFor([&] { return !std::filesystem::is_empty(folder.path().toStdString()); }, 5000));
    }
    EXPECT_TRUE(std::filesystem::is_empty(folder.path().toStdString()));
}
