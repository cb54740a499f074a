#include "shelf/shelf.h"

#include <algorithm>

#include <QHBoxLayout>
#include <QKeyEvent>
#include <QLabel>
#include <QLineEdit>
#include <QMimeData>
#include <QPainter>
#include <QScrollBar>
#include <QStackedWidget>
#include <QStyledItemDelegate>

#include "model/quantity.h"
#include "sheet/symbol.h"
#include "shelf/run_page.h"
#include "style/theme.h"
#include "timeline/notation.h"

namespace hedgerow::app {

namespace {

constexpr int tabWidth = 44, tabHeight = 96;
constexpr char quantityMime[] = "application/x-hedgerow-quantity";
const char* const tabNames[] = {"Parts", "Quantities", "Runs"};

enum Role { kindRole = Qt::UserRole, nameRole, unitRole, keptRole };

/// Symbol and title of a part.
class PartRow : public QStyledItemDelegate {
public:
    PartRow(Workspace& workspace, QObject* parent) : QStyledItemDelegate(parent), workspace_(workspace) {}
    QSize sizeHint(const QStyleOptionViewItem&, const QModelIndex& index) const override {
        return {160, index.data(kindRole).isNull() ? 26 : 34};
    }
    void paint(QPainter* painter, const QStyleOptionViewItem& option, const QModelIndex& index) const override {
        const Colours& p = colours();
        painter->save();
        painter->setRenderHint(QPainter::Antialiasing);
        const PartKind* kind = workspace_.catalogue().find(index.data(kindRole).toString().toStdString());
        if (!kind) {
            painter->setFont(textFont(TextSize::small, true));
            painter->setPen(p.bark);
            painter->drawText(option.rect.adjusted(8, 4, 0, 0), Qt::AlignLeft | Qt::AlignVCenter,
                              index.data().toString());
            painter->restore();
            return;
        }
        if (option.state & (QStyle::State_Selected | QStyle::State_MouseOver)) {
            painter->setPen(Qt::NoPen);
            painter->setBrush(option.state & QStyle::State_Selected ? p.leafTint : p.chalk);
            painter->drawRoundedRect(option.rect.adjusted(2, 1, -2, -1), 4, 4);
        }
        const QRectF box = partBox(Part{}, *kind);
        const double scale = 26.0 / std::max(box.width(), box.height());
        painter->save();
        painter->translate(option.rect.left() + 24, option.rect.center().y());
        painter->scale(scale, scale);
        painter->translate(-box.center());
        drawSymbol(*painter, *kind, {p.ink});
        painter->restore();
        painter->setFont(textFont());
        painter->setPen(p.ink);
        const QRect text = option.rect.adjusted(46, 0, -4, 0);
        painter->drawText(text, Qt::AlignLeft | Qt::AlignVCenter,
                          painter->fontMetrics().elidedText(index.data().toString(), Qt::ElideRight, text.width()));
        painter->restore();
    }

private:
    Workspace& workspace_;
};

class QuantityRow : public QStyledItemDelegate {
public:
    using QStyledItemDelegate::QStyledItemDelegate;
    QSize sizeHint(const QStyleOptionViewItem&, const QModelIndex&) const override { return {160, 28}; }
    void paint(QPainter* painter, const QStyleOptionViewItem& option, const QModelIndex& index) const override {
        const Colours& p = colours();
        painter->save();
        painter->setRenderHint(QPainter::Antialiasing);
        if (option.state & (QStyle::State_Selected | QStyle::State_MouseOver)) {
            painter->setPen(Qt::NoPen);
            painter->setBrush(option.state & QStyle::State_Selected ? p.leafTint : p.chalk);
            painter->drawRoundedRect(option.rect.adjusted(2, 1, -2, -1), 4, 4);
        }
        const QString name = index.data(nameRole).toString();
        drawNotation(*painter, QRectF(option.rect).adjusted(10, -2, -90, -2), notationOf(name.toStdString()), p.ink,
                     14);
        painter->setFont(textFont(TextSize::small));
        painter->setPen(p.bark);
        painter->drawText(option.rect.adjusted(70, 0, -8, 0), Qt::AlignRight | Qt::AlignVCenter,
                          name + "  " + index.data(unitRole).toString());
        painter->restore();
    }
};

void prepareList(QListWidget& list) {
    list.setVerticalScrollMode(QAbstractItemView::ScrollPerPixel);
    list.setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    list.setMouseTracking(true);
}

QWidget* page(const QString& title, QVBoxLayout*& column, QLabel** right = nullptr) {
    auto* widget = new QWidget;
    widget->setStyleSheet(QString());
    column = new QVBoxLayout(widget);
    column->setContentsMargins(8, 12, 4, 8);
    column->setSpacing(8);
    auto* head = new QHBoxLayout;
    auto* label = new QLabel(title);
    label->setStyleSheet("font-weight: bold; padding-left: 8px;");
    head->addWidget(label);
    head->addStretch(1);
    if (right) {
        *right = new QLabel;
        (*right)->setProperty("quiet", true);
        (*right)->setContentsMargins(0, 0, 8, 0);
        head->addWidget(*right);
    }
    column->addLayout(head);
    return widget;
}

}  // namespace

// ---- tabs

ShelfTabs::ShelfTabs(QWidget* parent) : QWidget(parent) {
    setFixedWidth(tabWidth);
    setFocusPolicy(Qt::TabFocus);
    setAccessibleName("shelf: parts, quantities, runs");
}

void ShelfTabs::setCurrent(int index) {
    current_ = index;
    update();
}

void ShelfTabs::paintEvent(QPaintEvent*) {
    const Colours& p = colours();
    QPainter painter(this);
    painter.fillRect(rect(), p.linen);
    for (int i = 0; i < 3; ++i) {
        const QRect box(0, 8 + i * tabHeight, tabWidth, tabHeight);
        if (i == current_) painter.fillRect(box, p.paper);
        painter.save();
        painter.setFont(textFont(TextSize::normal, i == current_));
        painter.setPen(i == current_ ? p.leaf : p.bark);
        painter.translate(box.center());
        painter.rotate(-90);
        painter.drawText(QRect(-tabHeight / 2, -tabWidth / 2, tabHeight, tabWidth), Qt::AlignCenter, tabNames[i]);
        painter.restore();
    }
    painter.setPen(hasFocus() ? QPen(p.sloe, 2) : QPen(p.rule, 1));
    painter.drawLine(width() - 1, 0, width() - 1, 8 + current_ * tabHeight);
    painter.drawLine(width() - 1, 8 + (current_ + 1) * tabHeight, width() - 1, height());
}

void ShelfTabs::mousePressEvent(QMouseEvent* event) {
    const int index = (static_cast<int>(event->position().y()) - 8) / tabHeight;
    if (index >= 0 && index < 3) emit chosen(index);
}

void ShelfTabs::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Down && current_ < 2)
        emit chosen(current_ + 1);
    else if (event->key() == Qt::Key_Up && current_ > 0)
        emit chosen(current_ - 1);
    else
        QWidget::keyPressEvent(event);
}

// ---- dragging

QMimeData* QuantityList::mimeData(const QList<QListWidgetItem*>& items) const {
    if (items.isEmpty()) return nullptr;
    auto* data = new QMimeData;
    data->setData(quantityMime, items.first()->data(nameRole).toString().toUtf8());
    data->setText(items.first()->data(nameRole).toString());
    return data;
}

QStringList QuantityList::mimeTypes() const { return {quantityMime}; }

// ---- pages

Shelf::Shelf(Workspace& workspace, QWidget* parent)
    : QWidget(parent), workspace_(workspace), tabs_(new ShelfTabs(this)), pages_(new QStackedWidget(this)) {
    setObjectName("shelf");
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(0, 0, 0, 0);
    row->setSpacing(0);
    row->addWidget(tabs_);
    row->addWidget(pages_, 1);
    pages_->setObjectName("shelfPages");
    pages_->addWidget(makeParts());
    pages_->addWidget(makeQuantities());
    pages_->addWidget(new RunPage(workspace, pages_));
    connect(tabs_, &ShelfTabs::chosen, this, [this](int index) { show(static_cast<Tab>(index)); });
    connect(&workspace, &Workspace::catalogueChanged, this, &Shelf::fillParts);
    connect(&workspace, &Workspace::projectChanged, this, &Shelf::fillQuantities);
    connect(&workspace, &Workspace::runsChanged, this, &Shelf::fillQuantities);
    fillParts();
    fillQuantities();
}

void Shelf::show(Tab tab) {
    tabs_->setCurrent(tab);
    pages_->setCurrentIndex(tab);
}

QWidget* Shelf::makeParts() {
    QVBoxLayout* column = nullptr;
    QWidget* widget = page("Parts", column);
    partSearch_ = new QLineEdit;
    partSearch_->setObjectName("partSearch");
    partSearch_->setPlaceholderText("find a part");
    partSearch_->setAccessibleName("find a part");
    partList_ = new QListWidget;
    partList_->setObjectName("partList");
    partList_->setAccessibleName("parts");
    partList_->setItemDelegate(new PartRow(workspace_, partList_));
    prepareList(*partList_);
    column->addWidget(partSearch_);
    column->addWidget(partList_, 1);
    connect(partSearch_, &QLineEdit::textChanged, this, &Shelf::fillParts);
    const auto choose = [this](QListWidgetItem* item) {
        const PartKind* kind =
            item ? workspace_.catalogue().find(item->data(kindRole).toString().toStdString()) : nullptr;
        if (!kind) return;
        for (const Part& kept : workspace_.keptParts())
            if (item->data(keptRole).toString() == QString::fromStdString(kept.name))
                return emit partChosen(Entry{kind, kept.values, "", kept.rung});
        emit partChosen(Entry{kind, {}, ""});
    };
    connect(partList_, &QListWidget::itemClicked, this, choose);
    connect(partList_, &QListWidget::itemActivated, this, choose);
    connect(partSearch_, &QLineEdit::returnPressed, this, [this, choose] {
        for (int i = 0; i < partList_->count(); ++i)
            if (!partList_->item(i)->data(kindRole).isNull()) return choose(partList_->item(i));
    });
    return widget;
}

void Shelf::fillParts() {
    partList_->clear();
    QString group;
    std::vector<const PartKind*> kinds = workspace_.catalogue().search(partSearch_->text().toStdString());
    const bool all = partSearch_->text().trimmed().isEmpty();
    if (all)
        std::stable_sort(kinds.begin(), kinds.end(), [](const PartKind* a, const PartKind* b) {
            static const std::vector<std::string> order = {"Sources", "Passives", "Switches",
                                                           "Control", "Meters",   "Modules"};
            return std::find(order.begin(), order.end(), a->group) < std::find(order.begin(), order.end(), b->group);
        });
    const QString wanted = partSearch_->text().trimmed();
    const auto fits = [&](const Part& kept) {
        return QString::fromStdString(kept.name).contains(wanted, Qt::CaseInsensitive);
    };
    const auto& own = workspace_.keptParts();
    if (all && std::any_of(own.begin(), own.end(), fits))
        (new QListWidgetItem("Own parts", partList_))->setFlags(Qt::NoItemFlags);
    for (const Part& kept : own) {
        if (!fits(kept)) continue;
        auto* item = new QListWidgetItem(QString::fromStdString(kept.name), partList_);
        item->setData(kindRole, QString::fromStdString(kept.kind));
        item->setData(keptRole, QString::fromStdString(kept.name));
    }
    for (const PartKind* kind : kinds) {
        if (all && group != QString::fromStdString(kind->group)) {
            group = QString::fromStdString(kind->group);
            auto* heading = new QListWidgetItem(group, partList_);
            heading->setFlags(Qt::NoItemFlags);
        }
        auto* item = new QListWidgetItem(QString::fromStdString(kind->title), partList_);
        item->setData(kindRole, QString::fromStdString(kind->id));
        item->setToolTip(QString::fromStdString(kind->summary));
    }
}

QWidget* Shelf::makeQuantities() {
    QVBoxLayout* column = nullptr;
    QWidget* widget = page("Quantities", column);
    quantitySearch_ = new QLineEdit;
    quantitySearch_->setObjectName("quantitySearch");
    quantitySearch_->setPlaceholderText("find, or type an expression");
    quantitySearch_->setAccessibleName("find a quantity");
    quantityHint_ = new QLabel("Run first: then everything is here, no meter needed.");
    quantityHint_->setProperty("quiet", true);
    quantityHint_->setWordWrap(true);
    quantityHint_->setContentsMargins(8, 0, 8, 0);
    quantityList_ = new QuantityList;
    quantityList_->setObjectName("quantityList");
    quantityList_->setAccessibleName("quantities");
    quantityList_->setDragEnabled(true);
    quantityList_->setItemDelegate(new QuantityRow(quantityList_));
    prepareList(*quantityList_);
    column->addWidget(quantitySearch_);
    column->addWidget(quantityHint_);
    column->addWidget(quantityList_, 1);
    connect(quantitySearch_, &QLineEdit::textChanged, this, [this] { quantityNames_.clear(), fillQuantities(); });
    connect(quantityList_, &QListWidget::itemActivated, this,
            [this](QListWidgetItem* item) { emit quantityChosen(item->data(nameRole).toString()); });
    connect(quantitySearch_, &QLineEdit::returnPressed, this, [this] {
        const QString typed = quantitySearch_->text().trimmed();
        if (const auto pair = typed.split(" over "); pair.size() == 2 && quantityMistake(typed).isEmpty())
            return emit overChosen(pair[0].trimmed(), pair[1].trimmed());
        if (quantityList_->count() > 0) return emit quantityChosen(quantityList_->item(0)->data(nameRole).toString());
        if (quantityMistake(typed).isEmpty()) emit quantityChosen(typed);
    });
    return widget;
}

/// Why an expression, or one over another, cannot be shown; "" when it can.
QString Shelf::quantityMistake(const QString& typed) const {
    for (const QString& expression : typed.split(" over "))
        if (const std::string mistake = workspace_.runList().mistakeIn(expression.trimmed().toStdString());
            !mistake.empty())
            return QString::fromStdString(mistake);
    return {};
}

void Shelf::fillQuantities() {
    QStringList names, units;
    if (workspace_.shownRun()) {
        const QString wanted = quantitySearch_->text().trimmed();
        for (const QuantityInfo& quantity : workspace_.shownRun()->run->quantities()) {
            const QString name = QString::fromStdString(quantity.name);
            if (!wanted.isEmpty() && !name.contains(wanted, Qt::CaseInsensitive)) continue;
            names << name;
            units << QString::fromStdString(quantity.unit);
        }
    }
    const QString typed = quantitySearch_->text().trimmed();
    if (workspace_.shownRun() && names.isEmpty() && !typed.isEmpty()) {
        const QString mistake = quantityMistake(typed);
        quantityHint_->setText(!mistake.isEmpty()         ? mistake
                               : typed.contains(" over ") ? "Enter shows the one over the other."
                                                          : "Enter shows this expression over the run.");
    } else {
        quantityHint_->setText("Run first: then everything is here, no meter needed.");
    }
    quantityHint_->setVisible(!workspace_.shownRun() || (names.isEmpty() && !typed.isEmpty()));
    if (names == quantityNames_ && quantityList_->count() == names.size()) return;
    quantityNames_ = names;
    quantityList_->clear();
    for (int i = 0; i < names.size(); ++i) {
        auto* item = new QListWidgetItem(names[i], quantityList_);
        item->setData(nameRole, names[i]);
        item->setData(unitRole, units[i]);
        item->setToolTip("Enter adds it to a lane of its unit; or drag it to a lane");
    }
}

}  // namespace hedgerow::app
