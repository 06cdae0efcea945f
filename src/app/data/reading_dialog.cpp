#include "app/data/reading_dialog.h"

#include "app/parts.h"
#include "workspace/text.h"

#include <QComboBox>
#include <QDialogButtonBox>
#include <QFormLayout>

namespace oxgoad {

namespace {

QString characterName(char c) {
    return c == '\t' ? QObject::tr("tab") : c == ' ' ? QObject::tr("space") : QString(QChar(c));
}

/// A box whose first entry leaves the choice to the reader; the others carry their value as data.
QComboBox* choiceBox(const QString& name, const QString& found, const QList<std::pair<QString, int>>& choices,
                     int chosen, QWidget* parent) {
    auto* box = new QComboBox(parent);
    box->setObjectName(name);
    box->setAccessibleName(name);
    box->addItem(QObject::tr("as found (%1)").arg(found), -1);
    for (const auto& [text, value] : choices) {
        box->addItem(text, value);
        if (value == chosen) box->setCurrentIndex(box->count() - 1);
    }
    return box;
}

} // namespace

ReadingDialog::ReadingDialog(const TextOptions& options, const TextFormat& found, QWidget* parent)
    : QDialog(parent), m_options(options) {
    setObjectName("readingDialog");
    setWindowTitle(tr("How the file is read"));
    auto* form = new QFormLayout(this);
    auto of = [](const std::optional<char>& c) { return c ? static_cast<int>(*c) : -1; };
    m_delimiter = choiceBox("delimiter", characterName(found.delimiter),
                            {{",", ','}, {";", ';'}, {tr("tab"), '\t'}, {"|", '|'}, {tr("space"), ' '}},
                            of(options.delimiter), this);
    m_quote =
        choiceBox("quote", characterName(found.quote), {{"\"", '"'}, {"'", '\''}}, of(options.quote), this);
    m_header = choiceBox("header", found.header ? tr("yes") : tr("no"), {{tr("yes"), 1}, {tr("no"), 0}},
                         options.header ? static_cast<int>(*options.header) : -1, this);
    m_decimal = choiceBox("decimalMark", characterName(found.decimalMark), {{".", '.'}, {",", ','}},
                          of(options.decimalMark), this);
    QList<std::pair<QString, int>> encodings;
    for (const Encoding e :
         {Encoding::utf8, Encoding::utf16LittleEndian, Encoding::utf16BigEndian, Encoding::latin1})
        encodings << std::pair{qs(encodingName(e)), static_cast<int>(e)};
    m_encoding = choiceBox("encoding", qs(encodingName(found.encoding)), encodings,
                           options.encoding ? static_cast<int>(*options.encoding) : -1, this);
    form->addRow(tr("Delimiter"), m_delimiter);
    form->addRow(tr("Quotes"), m_quote);
    form->addRow(tr("First line holds the names"), m_header);
    form->addRow(tr("Decimal mark"), m_decimal);
    form->addRow(tr("Encoding"), m_encoding);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Ok | QDialogButtonBox::Cancel, this);
    buttons->button(QDialogButtonBox::Ok)->setText(tr("Read again"));
    form->addRow(buttons);
    connect(buttons, &QDialogButtonBox::accepted, this, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
}

TextOptions ReadingDialog::options() const {
    TextOptions options = m_options;
    auto character = [](const QComboBox* box) -> std::optional<char> {
        const int value = box->currentData().toInt();
        return value < 0 ? std::nullopt : std::optional<char>(static_cast<char>(value));
    };
    options.delimiter = character(m_delimiter);
    options.quote = character(m_quote);
    options.decimalMark = character(m_decimal);
    const int header = m_header->currentData().toInt();
    options.header = header < 0 ? std::nullopt : std::optional<bool>(header == 1);
    const int encoding = m_encoding->currentData().toInt();
    options.encoding = encoding < 0 ? std::nullopt : std::optional<Encoding>(static_cast<Encoding>(encoding));
    return options;
}

} // namespace oxgoad
