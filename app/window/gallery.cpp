#include "window/gallery.h"

#include <QAbstractButton>
#include <QDir>
#include <QGridLayout>
#include <QKeyEvent>
#include <QLabel>
#include <QPainter>
#include <QScrollArea>
#include <QVBoxLayout>

#include "formats/hedge/hedge.h"
#include "sheet/sheet_painter.h"
#include "base/workspace.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {

constexpr int columns = 3;
constexpr QSize cardSize{216, 176}, previewSize{200, 104};

/// A card: preview, name, what it is.
class GalleryCard : public QAbstractButton {
public:
    GalleryCard(const QString& name, const QString& description, QWidget* parent)
        : QAbstractButton(parent), name_(name), description_(description) {
        setFixedSize(cardSize);
        setFocusPolicy(Qt::StrongFocus);
        setAttribute(Qt::WA_Hover);
        setAccessibleName(name + ": " + description);
        setCursor(Qt::PointingHandCursor);
    }
    void setProject(Project project) {
        // A workspace of its own: the preview shows the values that its own parameters give.
        workspace_ = std::make_unique<Workspace>();
        workspace_->adopt(std::move(project), {}, false);
    }

protected:
    void paintEvent(QPaintEvent*) override {
        const Colours& p = colours();
        QPainter painter(this);
        painter.setRenderHint(QPainter::Antialiasing);
        const bool current = hasFocus() || underMouse();
        painter.setPen(QPen(current ? p.leaf : p.rule, current ? 2 : 1));
        painter.setBrush(p.paper);
        painter.drawRoundedRect(QRectF(rect()).adjusted(1, 1, -1, -1), 8, 8);
        const QRectF preview(QPointF(8, 8), previewSize);
        if (workspace_) {
            painter.save();
            const Sheet& sheet = workspace_->project().sheet();
            const QRectF box = sheetBox(*workspace_, sheet);
            const double zoom = std::min({preview.width() / box.width(), preview.height() / box.height(), 0.6});
            painter.translate(preview.center());
            painter.scale(zoom, zoom);
            painter.translate(-box.center());
            paintSheet(painter, {*workspace_, sheet, {}, false, {}});
            painter.restore();
        } else {
            painter.setPen(QPen(p.bark, 2, Qt::SolidLine, Qt::RoundCap));
            const QPointF c = preview.center();
            painter.drawLine(c - QPointF(12, 0), c + QPointF(12, 0));
            painter.drawLine(c - QPointF(0, 12), c + QPointF(0, 12));
        }
        painter.setFont(textFont(TextSize::normal, true));
        painter.setPen(p.ink);
        painter.drawText(QRect(12, 116, width() - 24, 20), Qt::AlignVCenter, name_);
        painter.setFont(textFont(TextSize::small));
        painter.setPen(p.bark);
        painter.drawText(QRect(12, 136, width() - 24, 34), Qt::TextWordWrap, description_);
    }

private:
    QString name_, description_;
    std::unique_ptr<Workspace> workspace_;
};

}  // namespace

Gallery::Gallery(const QString& folder, QWidget* over) : QFrame(over), folder_(folder) {
    hide();
    setObjectName("gallery");
    setAccessibleName("gallery");
    over->installEventFilter(this);
}

void Gallery::build() {
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(24, 18, 24, 12);
    auto* title = new QLabel("Start from a circuit, or from an empty sheet", this);
    title->setFont(textFont(TextSize::large));
    column->addWidget(title);
    auto* area = new QScrollArea(this);
    area->setWidgetResizable(true);
    area->setFrameShape(QFrame::NoFrame);
    auto* page = new QWidget(area);
    page->setObjectName("galleryPage");
    grid_ = new QGridLayout(page);
    grid_->setContentsMargins(0, 6, 0, 6);
    grid_->setSpacing(12);
    area->setWidget(page);
    column->addWidget(area, 1);

    auto* empty = new GalleryCard("Empty sheet", "Type to place the first part.", page);
    empty->setObjectName("gallery.empty");
    connect(empty, &QAbstractButton::clicked, this, &Gallery::emptyChosen);
    int place = 0;
    grid_->addWidget(empty, 0, place++);
    for (const QFileInfo& file : QDir(folder_).entryInfoList({"*.hedge"}, QDir::Files, QDir::Name)) {
        auto loaded = loadHedge(file.absoluteFilePath().toStdString());
        if (!loaded) continue;
        const Project& project = loaded->project;
        auto* card =
            new GalleryCard(project.title.empty() ? file.completeBaseName() : QString::fromStdString(project.title),
                            QString::fromStdString(project.description), page);
        card->setObjectName("gallery." + file.completeBaseName());
        card->setProject(loaded->project);
        connect(card, &QAbstractButton::clicked, this, [this, path = file.absoluteFilePath()] { emit chosen(path); });
        grid_->addWidget(card, place / columns, place % columns);
        ++place;
    }
    grid_->setRowStretch(place / columns + 1, 1);
    grid_->setColumnStretch(columns, 1);
}

void Gallery::open() {
    if (!grid_) build();
    const Colours& p = colours();
    setStyleSheet(QString("QFrame#gallery, QWidget#galleryPage, QScrollArea { background: %1; }").arg(p.chalk.name()));
    setGeometry(parentWidget()->rect());
    show();
    raise();
    if (auto* first = grid_->itemAt(0)) first->widget()->setFocus();
}

void Gallery::close() {
    hide();
    parentWidget()->setFocus();
}

bool Gallery::eventFilter(QObject* watched, QEvent* event) {
    if (watched == parentWidget() && event->type() == QEvent::Resize) setGeometry(parentWidget()->rect());
    return QFrame::eventFilter(watched, event);
}

void Gallery::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Escape) return close();
    // Arrows go from card to card.
    int at = -1;
    for (int i = 0; i < grid_->count(); ++i)
        if (grid_->itemAt(i)->widget() == focusWidget()) at = i;
    const int step = event->key() == Qt::Key_Right  ? 1
                     : event->key() == Qt::Key_Left ? -1
                     : event->key() == Qt::Key_Down ? columns
                     : event->key() == Qt::Key_Up   ? -columns
                                                    : 0;
    if (step != 0 && at + step >= 0 && at + step < grid_->count())
        grid_->itemAt(at + step)->widget()->setFocus();
    else if ((event->key() == Qt::Key_Return || event->key() == Qt::Key_Enter) && at >= 0)
        static_cast<QAbstractButton*>(grid_->itemAt(at)->widget())->click();
    else
        QFrame::keyPressEvent(event);
}

}  // namespace hedgerow::app
