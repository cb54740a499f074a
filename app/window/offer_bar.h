#pragma once
// A line over the sheet that offers something and waits for nothing.

#include <functional>
#include <vector>

#include <QFrame>

namespace hedgerow::app {

class OfferBar : public QFrame {
public:
    explicit OfferBar(QWidget* parent);

    struct Answer {
        const char* object;  ///< name of the button
        QString text;
        std::function<void()> chosen;
    };
    void offer(const QString& text, const std::vector<Answer>& answers);
    /// Takes the offer back.
    void close();
    void refreshTheme();
};

}  // namespace hedgerow::app
