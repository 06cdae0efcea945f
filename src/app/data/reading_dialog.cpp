#include "app/data/reading_dialog.h"

#include "app/parts.h"
#include "base/error.h"
#include "base/text.h"
#include "read/workbook.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <QCheckBox>
#include <QComboBox>
#include <QDialogButtonBox>
#include <QFormLayout>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QLineEdit>
#include <QListWidget>
#include <QMenu>
#include <QPushButton>
#include <QVBoxLayout>

#include <filesystem>
#include <fstream>
#include <set>

namespace oxgoad {

namespace {

constexpr std::size_t previewBytes = 256U << 10U;
constexpr std::size_t sampledRows = 100;
constexpr int previewDelay = 60;

QString characterName(char c) {
    return c == '\t' ? QObject::tr("tab") : c == blankRuns ? QObject::tr("blanks") : QString(QChar(c));
}

/// The first lines of a file, cut at a line end.
std::string headOf(const std::filesystem::path& path) {
    std::ifstream file(path, std::ios::binary);
    std::string bytes(previewBytes, '\0');
    file.read(bytes.data(), static_cast<std::streamsize>(bytes.size()));
    bytes.resize(static_cast<std::size_t>(file.gcount()));
    if (bytes.size() == previewBytes)
        if (const auto end = bytes.find_last_of("\n\r"); end != std::string::npos && end > 0)
            bytes.resize(end + 1);
    return bytes;
}

} // namespace

ReadingDialog::ReadingDialog(const RowsSource& source, const QString& folder, const QString& action,
                             QWidget* parent)
    : QDialog(parent), m_source(source), m_folder(folder), m_jobs(this) {
    setObjectName("readingDialog");
    setWindowTitle(tr("How %1 is read").arg(qs(sourceName(source))));
    resize(980, 660);
    auto* layout = new QHBoxLayout(this);
    auto* left = new QVBoxLayout;
    m_form = new QFormLayout;
    left->addLayout(m_form);
    layout->addLayout(left);
    const TextOptions& o = source.text;
    const QVariant asFound;
    auto of = [](const std::optional<char>& c) { return c ? QVariant(QString(QChar(*c))) : QVariant(); };
    if (source.kind == SourceKind::workbook) {
        m_sheet = choice(tr("Sheet"), "sheet", {}, {});
        m_range = new QLineEdit(qs(source.range), this);
        m_range->setObjectName("range");
        m_range->setPlaceholderText(tr("all cells, or B3:F200"));
        m_form->addRow(tr("Range"), m_range);
        connect(m_range, &QLineEdit::textChanged, this, &ReadingDialog::changed);
    } else {
        m_delimiter = choice(tr("Delimiter"), "delimiter",
                             {{tr("as found"), asFound},
                              {",", ","},
                              {";", ";"},
                              {tr("tab"), "\t"},
                              {"|", "|"},
                              {tr("blanks"), " "}},
                             of(o.delimiter));
        m_quote =
            choice(tr("Quotes"), "quote", {{tr("as found"), asFound}, {"\"", "\""}, {"'", "'"}}, of(o.quote));
    }
    m_header = choice(tr("First line holds the names"), "header",
                      {{tr("as found"), asFound}, {tr("yes"), true}, {tr("no"), false}},
                      o.header ? QVariant(*o.header) : asFound);
    m_skip = new WholeBox(-1, 100000, this);
    m_skip->setObjectName("skipLines");
    m_skip->setSpecialValueText(tr("as found"));
    m_skip->setValue(o.skipLines ? static_cast<int>(*o.skipLines) : -1);
    m_form->addRow(tr("Lines above it"), m_skip);
    connect(m_skip, &QDoubleSpinBox::valueChanged, this, &ReadingDialog::changed);
    if (source.kind == SourceKind::text)
        m_decimal = choice(tr("Decimal mark"), "decimalMark",
                           {{tr("as found"), asFound}, {".", "."}, {",", ","}}, of(o.decimalMark));
    m_thousands = choice(tr("Thousands marks"), "thousandsMarks",
                         {{tr("the usual ones"), asFound},
                          {tr("none"), ""},
                          {",", ","},
                          {".", "."},
                          {tr("space"), " "},
                          {"'", "'"}},
                         o.thousandsMarks ? QVariant(qs(*o.thousandsMarks)) : asFound);
    m_percent = choice(tr("5 % is read as"), "percent",
                       {{"0.05", static_cast<int>(NumberDress::Percent::share)},
                        {"5", static_cast<int>(NumberDress::Percent::number)},
                        {tr("no number"), static_cast<int>(NumberDress::Percent::refused)}},
                       static_cast<int>(o.percent));
    m_dates = choice(tr("03/04/2025 is"), "dateOrder",
                     {{tr("as found"), asFound},
                      {tr("3 April"), static_cast<int>(DateOrder::dayFirst)},
                      {tr("4 March"), static_cast<int>(DateOrder::monthFirst)},
                      {tr("no date"), static_cast<int>(DateOrder::yearFirst)}},
                     o.dateOrder ? QVariant(static_cast<int>(*o.dateOrder)) : asFound);
    if (source.kind == SourceKind::text) {
        QList<std::pair<QString, QVariant>> encodings{{tr("as found"), asFound}};
        for (const Encoding e :
             {Encoding::utf8, Encoding::utf16LittleEndian, Encoding::utf16BigEndian, Encoding::latin1})
            encodings.append({qs(encodingName(e)), static_cast<int>(e)});
        m_encoding = choice(tr("Encoding"), "encoding", encodings,
                            o.encoding ? QVariant(static_cast<int>(*o.encoding)) : asFound);
    }
    m_currency = new QCheckBox(tr("Read past currency signs"), this);
    m_currency->setChecked(o.currency);
    m_form->addRow({}, m_currency);
    connect(m_currency, &QCheckBox::toggled, this, &ReadingDialog::changed);
    QStringList marks;
    for (const auto& mark : o.missingMarks)
        marks << qs(mark);
    m_missing = new QLineEdit(marks.join(" "), this);
    m_missing->setObjectName("missingMarks");
    m_missing->setCursorPosition(0);
    m_missing->setMinimumWidth(230);
    m_missing->setToolTip(tr("Cells that stand for no value, parted by spaces; the empty cell always does"));
    m_form->addRow(tr("Missing marks"), m_missing);
    connect(m_missing, &QLineEdit::textChanged, this, &ReadingDialog::changed);

    buildGather(left);
    left->addStretch(1);

    auto* right = new QVBoxLayout;
    m_found = plainLabel({}, "hint");
    m_found->setObjectName("readingFound");
    m_found->setWordWrap(true);
    right->addWidget(m_found);
    m_view = new GridView(tr("First rows as they would be read"), this);
    m_view->setObjectName("preview");
    m_view->setModel(&m_model);
    m_view->horizontalHeader()->setSectionsClickable(true);
    right->addWidget(m_view, 1);
    right->addWidget(plainLabel(
        tr("The first rows as they would be read. A click on a column's head reads it as another type."),
        "hint"));
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Ok | QDialogButtonBox::Cancel, this);
    m_ok = buttons->button(QDialogButtonBox::Ok);
    m_ok->setText(action);
    right->addWidget(buttons);
    layout->addLayout(right, 1);
    connect(buttons, &QDialogButtonBox::accepted, this, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    connect(m_view->horizontalHeader(), &QHeaderView::sectionClicked, this, &ReadingDialog::askKind);
    connect(&m_jobs, &Jobs::failed, this, [this](const QString& sentence) {
        m_found->setText(sentence);
        m_found->setStyleSheet("color: #A33B2C;");
        m_ok->setEnabled(false);
    });
    m_later.setSingleShot(true);
    m_later.setInterval(previewDelay);
    connect(&m_later, &QTimer::timeout, this, &ReadingDialog::preview);
    preview();
}

QComboBox* ReadingDialog::choice(const QString& label, const QString& name,
                                 const QList<std::pair<QString, QVariant>>& choices, const QVariant& chosen) {
    auto* box = new QComboBox(this);
    box->setObjectName(name);
    box->setAccessibleName(label);
    for (const auto& [text, value] : choices) {
        box->addItem(text, value);
        if (value == chosen) box->setCurrentIndex(box->count() - 1);
    }
    m_form->addRow(label, box);
    connect(box, &QComboBox::currentIndexChanged, this, &ReadingDialog::changed);
    return box;
}

void ReadingDialog::buildGather(QBoxLayout* layout) {
    m_gather = new QCheckBox(tr("Gather wide columns into rows"), this);
    m_gather->setObjectName("gather");
    m_gather->setChecked(m_source.gather.has_value());
    m_gather->setToolTip(
        tr("One quantity in many columns, such as one a year: each row becomes one row a column"));
    layout->addWidget(m_gather);
    m_gatherPart = new QWidget(this);
    auto* part = new QFormLayout(m_gatherPart);
    part->setContentsMargins(0, 0, 0, 0);
    m_wide = new QListWidget(this);
    m_wide->setObjectName("gatherColumns");
    m_wide->setAccessibleName(tr("Columns to be gathered"));
    m_wide->setSelectionMode(QAbstractItemView::ExtendedSelection);
    m_wide->setMinimumHeight(96);
    part->addRow(m_wide);
    const GatherPlan plan = m_source.gather.value_or(GatherPlan{});
    auto field = [&](const QString& label, const QString& name, const std::string& text) {
        auto* edit = new QLineEdit(qs(text), this);
        edit->setObjectName(name);
        part->addRow(label, edit);
        connect(edit, &QLineEdit::textChanged, this, &ReadingDialog::changed);
        return edit;
    };
    m_names = field(tr("Their names go to"), "gatherNames", plan.names);
    m_values = field(tr("Their values go to"), "gatherValues", plan.values);
    layout->addWidget(m_gatherPart);
    m_gatherPart->setVisible(m_gather->isChecked());
    connect(m_gather, &QCheckBox::toggled, this, [this](bool on) {
        m_gatherPart->setVisible(on);
        changed();
    });
    connect(m_wide, &QListWidget::itemChanged, this, [this](QListWidgetItem* item) {
        if (m_listing) return;
        m_listing = true; // one tick stands for all lines that are selected with it
        if (item->isSelected())
            for (QListWidgetItem* other : m_wide->selectedItems())
                other->setCheckState(item->checkState());
        m_listing = false;
        changed();
    });
}

void ReadingDialog::listColumns(const Table& wide) {
    QStringList names;
    for (const Column& column : wide.columns())
        names << qs(column.name());
    QStringList listed;
    for (int i = 0; i < m_wide->count(); ++i)
        listed << m_wide->item(i)->text();
    if (listed == names) return;
    std::set<std::size_t> ticked;
    GatherPlan plan = m_source.gather.value_or(GatherPlan{});
    if (!m_source.gather) {
        plan = suggestedGather(wide);
        if (!plan.from.empty()) {
            const QSignalBlocker quietNames(m_names), quietValues(m_values);
            m_names->setText(qs(plan.names));
            m_values->setText(qs(plan.values));
        }
    }
    try {
        for (const std::size_t place : gatheredColumns(wide, plan, {}))
            ticked.insert(place);
    } catch (const Error&) { // other columns than the source was made for: none is ticked
    }
    m_listing = true;
    m_wide->clear();
    for (int i = 0; i < names.size(); ++i) {
        auto* item = new QListWidgetItem(names[i], m_wide);
        item->setFlags(item->flags() | Qt::ItemIsUserCheckable);
        item->setCheckState(ticked.contains(static_cast<std::size_t>(i)) ? Qt::Checked : Qt::Unchecked);
    }
    if (!ticked.empty()) m_wide->scrollToItem(m_wide->item(static_cast<int>(*ticked.begin())));
    m_listing = false;
}

std::optional<GatherPlan> ReadingDialog::gather() const {
    if (!m_gather->isChecked()) return std::nullopt;
    if (m_wide->count() == 0) return m_source.gather; // not read yet
    GatherPlan plan;
    plan.names = ss(m_names->text().trimmed());
    plan.values = ss(m_values->text().trimmed());
    int first = -1, last = -1;
    for (int i = 0; i < m_wide->count(); ++i) {
        if (m_wide->item(i)->checkState() != Qt::Checked) continue;
        if (first < 0) first = i;
        last = i;
        plan.columns.push_back(ss(m_wide->item(i)->text()));
    }
    if (plan.columns.empty()) return std::nullopt;
    if (static_cast<int>(plan.columns.size()) == last - first + 1 && last > first) {
        plan.from = plan.columns.front();
        plan.to = plan.columns.back();
        plan.columns.clear();
    }
    return plan;
}

void ReadingDialog::changed() {
    m_later.start();
}

RowsSource ReadingDialog::source() const {
    RowsSource source = m_source;
    TextOptions& o = source.text;
    auto character = [](const QComboBox* box) -> std::optional<char> {
        if (!box || !box->currentData().isValid()) return std::nullopt;
        return box->currentData().toString().at(0).toLatin1();
    };
    if (m_delimiter) o.delimiter = character(m_delimiter);
    if (m_quote) o.quote = character(m_quote);
    if (m_decimal) o.decimalMark = character(m_decimal);
    auto data = [](const QComboBox* box) { return box->currentData(); };
    o.header = data(m_header).isValid() ? std::optional(data(m_header).toBool()) : std::nullopt;
    o.thousandsMarks =
        data(m_thousands).isValid() ? std::optional(ss(data(m_thousands).toString())) : std::nullopt;
    o.percent = static_cast<NumberDress::Percent>(data(m_percent).toInt());
    o.dateOrder =
        data(m_dates).isValid() ? std::optional(static_cast<DateOrder>(data(m_dates).toInt())) : std::nullopt;
    if (m_encoding)
        o.encoding = data(m_encoding).isValid()
                         ? std::optional(static_cast<Encoding>(data(m_encoding).toInt()))
                         : std::nullopt;
    o.skipLines =
        m_skip->value() < 0 ? std::nullopt : std::optional(static_cast<std::size_t>(m_skip->value()));
    o.currency = m_currency->isChecked();
    o.missingMarks.clear();
    for (const QString& mark : m_missing->text().split(' ', Qt::SkipEmptyParts))
        o.missingMarks.push_back(ss(mark));
    if (m_sheet && m_sheet->count() > 0) source.sheet = ss(m_sheet->currentData().toString());
    if (m_range) source.range = ss(m_range->text().trimmed());
    source.gather = gather();
    return source;
}

void ReadingDialog::preview() {
    const RowsSource now = source();
    const std::filesystem::path path = std::filesystem::path(ss(m_folder)) / now.file;
    const bool needSheets = m_sheet && m_sheet->count() == 0;
    m_jobs.start(
        tr("Reading the first rows"), [this, now, path, needSheets](Progress& progress) -> Jobs::Finish {
            std::vector<SheetInfo> sheets;
            if (needSheets) sheets = sheetsOf(path, progress);
            TextOptions options = now.text;
            options.kindsMayBeAbsent = true;
            if (now.gather) {
                options.kinds.erase(now.gather->names);
                options.kinds.erase(now.gather->values);
            }
            auto rows = std::make_shared<RowsRead>(
                now.kind == SourceKind::workbook
                    ? readWorkbook(path, {now.sheet, now.range, sampledRows}, options, progress)
                    : readTextBytes(headOf(path), path.filename().string(), options, {1}, progress));
            const Table wide = rows->table;
            if (now.gather) *rows = gatherRows(std::move(*rows), *now.gather, now.text.kinds, progress);
            return [this, rows, wide, sheets] {
                listColumns(wide);
                if (!sheets.empty() && m_sheet->count() == 0) {
                    const QSignalBlocker blocker(m_sheet);
                    for (const SheetInfo& sheet : sheets)
                        m_sheet->addItem(qs(sheet.name) + (sheet.hidden ? tr(" (hidden)") : QString()),
                                         qs(sheet.name));
                    const int at = m_source.sheet.empty() ? 0 : m_sheet->findData(qs(m_source.sheet));
                    m_sheet->setCurrentIndex(std::max(0, at));
                    if (m_source.sheet.empty())
                        for (std::size_t i = 0; i < sheets.size(); ++i)
                            if (!sheets[i].hidden) {
                                m_sheet->setCurrentIndex(static_cast<int>(i));
                                break;
                            }
                }
                showRows(*rows);
            };
        });
}

void ReadingDialog::showRows(const RowsRead& rows) {
    m_columns.clear();
    for (const Column& column : rows.table.columns())
        m_columns.emplace_back(column.name(), column.asked());
    m_model.setContent(previewGrid(rows.table));
    m_view->fitColumns(170);
    QStringList said;
    if (m_source.kind == SourceKind::text)
        said << tr("delimiter %1").arg(characterName(rows.report.format.delimiter))
             << tr("decimal mark %1").arg(QChar(rows.report.format.decimalMark))
             << qs(encodingName(rows.report.format.encoding));
    said << qs(plural(rows.table.columns().size(), "column", "columns"));
    if (rows.report.faultCount > 0)
        said << qs(plural(rows.report.faultCount, "cell does", "cells do")) + tr(" not fit");
    for (const auto& note : rows.report.notes)
        said << qs(note);
    for (const ReadDoubt& doubt : rows.report.doubts)
        said << tr("not sure: ") + qs(doubt.said);
    showFound(rows);
    m_found->setStyleSheet({});
    m_found->setText(said.join(" · "));
    m_ok->setEnabled(true);
}

void ReadingDialog::showFound(const RowsRead& rows) {
    const TextFormat& format = rows.report.format;
    auto say = [this](QComboBox* box, const QString& what) {
        if (box) box->setItemText(0, tr("as found: %1").arg(what));
    };
    if (m_source.kind == SourceKind::text) {
        say(m_delimiter, characterName(format.delimiter));
        say(m_quote, QString(QChar(format.quote)));
        say(m_decimal, QString(QChar(format.decimalMark)));
        say(m_encoding, qs(encodingName(format.encoding)));
        say(m_header, format.header ? tr("yes") : tr("no"));
        m_skip->setSpecialValueText(tr("as found: %1").arg(format.skipLines));
    }
}

void ReadingDialog::askKind(int column) {
    if (column < 0 || column >= static_cast<int>(m_columns.size())) return;
    const auto& [name, now] = m_columns[static_cast<std::size_t>(column)];
    auto* menu = new QMenu(this);
    menu->setObjectName("kindMenu");
    menu->setAttribute(Qt::WA_DeleteOnClose);
    auto add = [&](const QString& text, bool checked, auto act) {
        auto* action = menu->addAction(text);
        action->setCheckable(true);
        action->setChecked(checked);
        connect(action, &QAction::triggered, this, [this, act] {
            act();
            preview();
        });
    };
    const bool asked = m_source.text.kinds.contains(name);
    add(tr("As found"), !asked, [this, name = name] { m_source.text.kinds.erase(name); });
    for (const AskedKind& kind : AskedKind::all())
        add(tr("Read as %1").arg(qs(kind.name())), asked && now == kind,
            [this, name = name, kind] { m_source.text.kinds[name] = kind; });
    menu->popup(QCursor::pos());
}

} // namespace oxgoad
