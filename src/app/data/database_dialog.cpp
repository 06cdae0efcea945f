#include "app/data/database_dialog.h"

#include "app/parts.h"
#include "base/text.h"
#include "read/database.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <QComboBox>
#include <QDialogButtonBox>
#include <QFontDatabase>
#include <QFormLayout>
#include <QHBoxLayout>
#include <QLineEdit>
#include <QPlainTextEdit>
#include <QPushButton>
#include <QVBoxLayout>

#include <filesystem>

namespace oxgoad {

namespace {

constexpr std::size_t previewRows = 100;

} // namespace

DatabaseDialog::DatabaseDialog(const RowsSource& start, const QString& folder, QWidget* parent)
    : QDialog(parent), m_start(start), m_folder(folder), m_jobs(this) {
    setObjectName("databaseDialog");
    setWindowTitle(tr("Rows from a database"));
    resize(820, 600);
    auto* layout = new QVBoxLayout(this);
    m_form = new QFormLayout;
    layout->addLayout(m_form);
    auto edit = [this](const QString& label, const QString& name, const QString& text) {
        auto* line = new QLineEdit(text, this);
        line->setObjectName(name);
        m_form->addRow(label, line);
        return line;
    };
    m_kind = new QComboBox(this);
    m_kind->setObjectName("databaseKind");
    m_kind->addItem(tr("SQLite file"), static_cast<int>(SourceKind::sqlite));
    m_kind->addItem(tr("PostgreSQL server"), static_cast<int>(SourceKind::postgres));
    m_kind->setCurrentIndex(m_kind->findData(static_cast<int>(start.kind)));
    if (m_kind->currentIndex() < 0) m_kind->setCurrentIndex(0);
    m_form->addRow(tr("Database"), m_kind);
    m_file = edit(tr("File"), "databaseFile", qs(start.file));
    m_tables = new QComboBox(this);
    m_tables->setObjectName("databaseTables");
    m_form->addRow(tr("Tables"), m_tables);
    m_host = edit(tr("Host"), "host", start.server.host.empty() ? "localhost" : qs(start.server.host));
    m_port = new WholeBox(1, 65535, this);
    m_port->setValue(start.server.port);
    m_port->setObjectName("port");
    m_form->addRow(tr("Port"), m_port);
    m_database = edit(tr("Database name"), "databaseName", qs(start.server.database));
    m_user = edit(tr("User"), "user", qs(start.server.user));
    m_password = edit(tr("Password"), "password", {});
    m_password->setEchoMode(QLineEdit::Password);
    m_password->setPlaceholderText(tr("never stored"));
    m_query = new QPlainTextEdit(qs(start.query), this);
    m_query->setObjectName("query");
    m_query->setAccessibleName(tr("Query"));
    m_query->setPlaceholderText("SELECT * FROM …");
    m_query->setMaximumHeight(110);
    m_query->setTabChangesFocus(true);
    m_form->addRow(tr("Query"), m_query);
    auto* row = new QHBoxLayout;
    m_said = plainLabel(tr("Only queries run, and only to read. Try one to see its first rows."), "hint");
    m_said->setObjectName("databaseSaid");
    m_said->setWordWrap(true);
    row->addWidget(m_said, 1);
    auto* attempt = linkButton(tr("try the query"), this);
    attempt->setProperty("tryQuery", true);
    row->addWidget(attempt);
    layout->addLayout(row);
    m_view = new GridView(tr("First rows of the query"), this);
    m_view->setModel(&m_model);
    layout->addWidget(m_view, 1);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Ok | QDialogButtonBox::Cancel, this);
    m_ok = buttons->button(QDialogButtonBox::Ok);
    m_ok->setText(tr("Read"));
    layout->addWidget(buttons);
    connect(buttons, &QDialogButtonBox::accepted, this, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    connect(attempt, &QPushButton::clicked, this, &DatabaseDialog::tryQuery);
    connect(m_kind, &QComboBox::currentIndexChanged, this, &DatabaseDialog::changed);
    connect(m_file, &QLineEdit::editingFinished, this, &DatabaseDialog::fillTables);
    connect(m_query, &QPlainTextEdit::textChanged, this, &DatabaseDialog::changed);
    connect(m_tables, &QComboBox::activated, this, [this] {
        QString name = m_tables->currentText();
        m_query->setPlainText("SELECT * FROM \"" + name.replace('"', "\"\"") + "\"");
    });
    connect(&m_jobs, &Jobs::failed, this, [this](const QString& sentence) {
        m_said->setText(sentence);
        m_said->setStyleSheet("color: #A33B2C;");
    });
    fillTables();
    changed();
}

RowsSource DatabaseDialog::source() const {
    RowsSource source = m_start;
    source.kind = static_cast<SourceKind>(m_kind->currentData().toInt());
    source.query = ss(m_query->toPlainText());
    if (source.kind == SourceKind::sqlite) {
        source.file = ss(m_file->text());
        source.server = {};
    } else {
        source.file.clear();
        source.server = {ss(m_host->text()), m_port->value(), ss(m_database->text()), ss(m_user->text())};
    }
    return source;
}

QString DatabaseDialog::password() const {
    return m_password->text();
}

void DatabaseDialog::changed() {
    if (!m_ok) return; // while the fields are being made
    const bool file = m_kind->currentData().toInt() == static_cast<int>(SourceKind::sqlite);
    auto show = [this](QWidget* field, bool shown) {
        field->setVisible(shown);
        m_form->labelForField(field)->setVisible(shown);
    };
    show(m_file, file);
    show(m_tables, file && m_tables->count() > 0);
    for (QWidget* field : std::initializer_list<QWidget*>{m_host, m_port, m_database, m_user, m_password})
        show(field, !file);
    m_ok->setEnabled(!m_query->toPlainText().trimmed().isEmpty());
}

void DatabaseDialog::fillTables() {
    m_tables->clear();
    if (m_file->text().isEmpty()) return;
    m_jobs.start(
        tr("Looking for tables"),
        [this, path = std::filesystem::path(ss(m_folder)) / ss(m_file->text())](Progress&) -> Jobs::Finish {
            const auto tables = tablesOfSqlite(path);
            return [this, tables] {
                m_tables->clear();
                for (const auto& table : tables)
                    m_tables->addItem(qs(table));
                if (m_query->toPlainText().isEmpty() && m_tables->count() > 0) emit m_tables->activated(0);
                changed();
            };
        });
}

void DatabaseDialog::tryQuery() {
    m_said->setText(tr("Asking…"));
    m_said->setStyleSheet({});
    m_jobs.start(
        tr("Asking the database"),
        [this, now = source(), folder = m_folder,
         password = ss(m_password->text())](Progress& progress) -> Jobs::Finish {
            TextOptions options = now.text;
            options.kindsMayBeAbsent = true;
            auto rows = std::make_shared<RowsRead>(
                now.kind == SourceKind::sqlite
                    ? readSqlite(std::filesystem::path(ss(folder)) / now.file, now.query, options,
                                 previewRows, progress)
                    : readPostgres(now.server, password, now.query, options, previewRows, progress));
            return [this, rows] {
                m_model.setContent(previewGrid(rows->table));
                m_view->fitColumns(170);
                m_said->setStyleSheet({});
                m_said->setText(
                    tr("The first %1 of the query.").arg(qs(plural(rows->table.rows(), "row", "rows"))));
            };
        });
}

PasswordDialog::PasswordDialog(const ServerPlace& place, const QString& why, QWidget* parent)
    : QDialog(parent) {
    setObjectName("passwordDialog");
    setWindowTitle(tr("Password"));
    auto* form = new QFormLayout(this);
    form->addRow(
        plainLabel(tr("%1: %2. It is kept for this run of the program only.").arg(qs(place.database), why)));
    m_password = new QLineEdit(this);
    m_password->setEchoMode(QLineEdit::Password);
    form->addRow(tr("Password of %1").arg(qs(place.user)), m_password);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Ok | QDialogButtonBox::Cancel, this);
    form->addRow(buttons);
    connect(buttons, &QDialogButtonBox::accepted, this, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
}

QString PasswordDialog::password() const {
    return m_password->text();
}

} // namespace oxgoad
