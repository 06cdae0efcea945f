#pragma once
#include "app/parts.h"
#include "read/source.h"
#include "workspace/grid_model.h"
#include "workspace/jobs.h"

#include <QDialog>

class QComboBox;
class QFormLayout;
class QLabel;
class QLineEdit;
class QPlainTextEdit;
class QPushButton;

namespace oxgoad {

class GridView;

/// A query of an SQLite file or a PostgreSQL server, with the first rows it gives.
class DatabaseDialog : public QDialog {
    Q_OBJECT
public:
    DatabaseDialog(const RowsSource& start, const QString& folder, QWidget* parent);
    RowsSource source() const;
    QString password() const;

private:
    void changed();
    void fillTables();
    void tryQuery();

    RowsSource m_start;
    QString m_folder;
    QFormLayout* m_form;
    QComboBox* m_kind;
    QLineEdit* m_file;
    QComboBox* m_tables;
    QLineEdit* m_host;
    WholeBox* m_port;
    QLineEdit* m_database;
    QLineEdit* m_user;
    QLineEdit* m_password;
    QPlainTextEdit* m_query;
    QLabel* m_said;
    QPushButton* m_ok = nullptr;
    GridModel m_model;
    GridView* m_view;
    Jobs m_jobs;
};

/// Asks for a password; empty when the analyst thought better of it.
class PasswordDialog : public QDialog {
    Q_OBJECT
public:
    PasswordDialog(const ServerPlace& place, const QString& why, QWidget* parent);
    QString password() const;

private:
    QLineEdit* m_password;
};

} // namespace oxgoad
