#pragma once
// How a lane of spectra looks at its quantities: window, fundamental, last frequency, scale and limit.

#include <functional>

#include <QWidget>

#include "base/workspace.h"

class QFormLayout;
class QLabel;

namespace hedgerow::app {

class SpectrumFields : public QWidget {
    Q_OBJECT

public:
    /// @param lane  index into the lanes of the project
    SpectrumFields(Workspace& workspace, std::size_t lane, QWidget* parent = nullptr);

private:
    SpectrumLook look() const;
    void change(const std::function<void(SpectrumLook&)>& change);
    void addText(QFormLayout& form, const char* label, const char* name, const char* example,
                 std::string SpectrumLook::*text);

    Workspace& workspace_;
    std::size_t lane_;
    QLabel* mistake_;
};

}  // namespace hedgerow::app
