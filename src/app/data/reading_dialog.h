#pragma once
#include "read/text_reader.h"

#include <QDialog>

class QComboBox;

namespace oxgoad {

/// How a text file is to be read: what was found, and what may be said instead.
class ReadingDialog : public QDialog {
    Q_OBJECT
public:
    ReadingDialog(const TextOptions& options, const TextFormat& found, QWidget* parent);
    /// The options as chosen; kinds and missing marks as they were given.
    TextOptions options() const;

private:
    TextOptions m_options;
    QComboBox* m_delimiter;
    QComboBox* m_quote;
    QComboBox* m_header;
    QComboBox* m_decimal;
    QComboBox* m_encoding;
};

} // namespace oxgoad
