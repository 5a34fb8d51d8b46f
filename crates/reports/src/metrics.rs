//! Numbers about a program that runs, in the text format of OpenMetrics 1.0, which monitoring
//! systems read.

/// The media type of the text.
pub const MEDIA: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";

/// What a number is.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum MetricKind {
    /// It goes up and down.
    Gauge,
    /// It only grows, from 0 on when the program begins.
    Counter,
    /// It is 1, and its labels say something of the program.
    Info,
}

/// What a number counts.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum MetricUnit {
    /// Things.
    None,
    /// Seconds, or parts of them.
    Seconds,
    /// Bytes.
    Bytes,
}

/// A number of a family, with what tells it from the others: names of labels (letters, digits and
/// `_`), each with its value.
#[derive(Clone, PartialEq, Debug)]
pub struct Sample {
    /// Names and values.
    pub labels: Vec<(&'static str, String)>,
    /// The number.
    pub value: f64,
}

/// Numbers of one name.
#[derive(Clone, PartialEq, Debug)]
pub struct MetricFamily {
    /// Letters, digits and `_`; the unit at its end, if it has one.
    pub name: &'static str,
    /// What they are.
    pub kind: MetricKind,
    /// What they count.
    pub unit: MetricUnit,
    /// What they say, for people: a sentence.
    pub help: &'static str,
    /// The numbers.
    pub samples: Vec<Sample>,
}

impl MetricFamily {
    /// One number without labels.
    pub fn one(
        (name, kind, unit): (&'static str, MetricKind, MetricUnit),
        help: &'static str,
        value: f64,
    ) -> MetricFamily {
        MetricFamily {
            name,
            kind,
            unit,
            help,
            samples: vec![Sample {
                labels: Vec::new(),
                value,
            }],
        }
    }
}

/// A text in which quotes, backslashes and ends of lines stand for themselves.
fn escaped(text: &str) -> String {
    text.replace('\\', "\\\\")
        .replace('"', "\\\"")
        .replace('\n', "\\n")
}

/// The text with some families. Each name is of one family.
pub fn open_metrics(families: &[MetricFamily]) -> String {
    let mut text = String::new();
    for MetricFamily {
        name,
        kind,
        unit,
        help,
        samples,
    } in families
    {
        let (word, suffix) = match kind {
            MetricKind::Gauge => ("gauge", ""),
            MetricKind::Counter => ("counter", "_total"),
            MetricKind::Info => ("info", "_info"),
        };
        text.push_str(&format!("# TYPE {name} {word}\n"));
        match unit {
            MetricUnit::None => {}
            MetricUnit::Seconds => text.push_str(&format!("# UNIT {name} seconds\n")),
            MetricUnit::Bytes => text.push_str(&format!("# UNIT {name} bytes\n")),
        }
        text.push_str(&format!("# HELP {name} {}\n", escaped(help)));
        for Sample { labels, value } in samples {
            let labels: Vec<String> = labels
                .iter()
                .map(|(name, value)| format!("{name}=\"{}\"", escaped(value)))
                .collect();
            let labels = if labels.is_empty() {
                String::new()
            } else {
                format!("{{{}}}", labels.join(","))
            };
            text.push_str(&format!("{name}{suffix}{labels} {value}\n"));
        }
    }
    text.push_str("# EOF\n");
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn families_are_written_with_their_units_labels_and_an_end() {
        let ended = MetricFamily {
            name: "tide_jobs",
            kind: MetricKind::Counter,
            unit: MetricUnit::None,
            help: "Jobs that ended, by how.",
            samples: vec![
                Sample {
                    labels: vec![("end", "ran".to_owned())],
                    value: 3.0,
                },
                Sample {
                    labels: vec![("end", "a \"b\"\\\nc".to_owned())],
                    value: 0.0,
                },
            ],
        };
        let info = MetricFamily {
            samples: vec![Sample {
                labels: vec![("version", "1".to_owned())],
                value: 1.0,
            }],
            ..MetricFamily::one(
                ("tide", MetricKind::Info, MetricUnit::None),
                "The program.",
                1.0,
            )
        };
        let took = (
            "tide_work_seconds",
            MetricKind::Counter,
            MetricUnit::Seconds,
        );
        let text = open_metrics(&[info, ended, MetricFamily::one(took, "Time of jobs.", 1.25)]);
        assert_eq!(
            text,
            "# TYPE tide info\n# HELP tide The program.\ntide_info{version=\"1\"} 1\n\
             # TYPE tide_jobs counter\n# HELP tide_jobs Jobs that ended, by how.\n\
             tide_jobs_total{end=\"ran\"} 3\ntide_jobs_total{end=\"a \\\"b\\\"\\\\\\nc\"} 0\n\
             # TYPE tide_work_seconds counter\n# UNIT tide_work_seconds seconds\n\
             # HELP tide_work_seconds Time of jobs.\ntide_work_seconds_total 1.25\n# EOF\n"
        );
    }
}
