//! OpenMetrics text (OpenMetrics 1.0): its samples read, and itself as the older text format (0.0.4) for who asks for that.

/// The media type of the text.
pub(crate) const MEDIA_TYPE: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";
/// The media type of the older format.
pub(crate) const OLDER_MEDIA_TYPE: &str = "text/plain; version=0.0.4; charset=utf-8";

/// The same in the older format: there a counter's comments have its sample's name, and nothing says that it ends.
pub(crate) fn older(text: &str) -> String {
    let lines: Vec<&str> = text.lines().filter(|line| *line != "# EOF").collect();
    let is_counter = |name: &str| lines.iter().any(|line| *line == format!("# TYPE {name} counter"));
    let mut older = String::with_capacity(text.len());
    for line in &lines {
        let mut words = line.splitn(4, ' ');
        match (words.next(), words.next(), words.next(), words.next()) {
            (Some("#"), Some(what), Some(name), Some(rest)) if is_counter(name) => {
                older.push_str(&format!("# {what} {name}_total {rest}"));
            }
            _ => older.push_str(line),
        }
        older.push('\n');
    }
    older
}

/// One sample.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Sample {
    /// The metric's name.
    pub name: String,
    /// Labels, in their order.
    labels: Vec<(String, String)>,
    /// Its value; `None` if it is no finite number.
    pub value: Option<f64>,
}

impl Sample {
    /// A label's value.
    pub(super) fn label(&self, name: &str) -> Option<&str> {
        self.labels.iter().find(|(label, _)| label == name).map(|(_, value)| value.as_str())
    }
}

/// All samples of a text.
///
/// # Errors
/// The first line that is none, and no comment.
pub(super) fn samples(text: &str) -> Result<Vec<Sample>, String> {
    let lines = text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#'));
    lines
        .map(|line| sample(line).ok_or_else(|| format!("`{}` is no sample", line.chars().take(40).collect::<String>())))
        .collect()
}

/// `name{label="value",…} value [timestamp]`
fn sample(line: &str) -> Option<Sample> {
    let is_name = |c: char| c.is_ascii_alphanumeric() || c == '_' || c == ':';
    let end = line.find(|c| !is_name(c))?;
    let (name, rest) = line.split_at(end);
    if name.is_empty() || name.starts_with(|c: char| c.is_ascii_digit()) {
        return None;
    }
    let (labels, rest) = match rest.strip_prefix('{') {
        Some(rest) => labels(rest)?,
        None => (Vec::new(), rest),
    };
    let value = rest.split_whitespace().next()?.parse().ok()?;
    Some(Sample { name: name.to_owned(), labels, value: Some(value).filter(|v: &f64| v.is_finite()) })
}

/// Labels up to their closing brace, and what stands behind it.
fn labels(mut rest: &str) -> Option<(Vec<(String, String)>, &str)> {
    let mut found = Vec::new();
    loop {
        rest = rest.trim_start_matches([' ', ',']);
        if let Some(behind) = rest.strip_prefix('}') {
            return Some((found, behind));
        }
        let (name, behind) = rest.split_once("=\"")?;
        let (value, behind) = quoted(behind)?;
        found.push((name.trim().to_owned(), value));
        rest = behind;
    }
}

/// A value up to its closing quote, its escapes undone, and what stands behind it.
fn quoted(text: &str) -> Option<(String, &str)> {
    let mut value = String::new();
    let mut chars = text.char_indices();
    while let Some((at, c)) = chars.next() {
        match c {
            '"' => return Some((value, &text[at + 1..])),
            '\\' => match chars.next()?.1 {
                'n' => value.push('\n'),
                other => value.push(other),
            },
            c => value.push(c),
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn in_the_older_format_a_counter_has_the_name_of_its_samples() {
        let text = "# HELP moth_frames Video frames.\n# TYPE moth_frames counter\nmoth_frames_total{kind=\"dropped\"} 0\n\
                    # TYPE moth_frames_queued gauge\nmoth_frames_queued 1\n# EOF\n";
        assert_eq!(
            older(text),
            "# HELP moth_frames_total Video frames.\n# TYPE moth_frames_total counter\nmoth_frames_total{kind=\"dropped\"} 0\n\
             # TYPE moth_frames_queued gauge\nmoth_frames_queued 1\n"
        );
    }

    fn one(line: &str) -> Sample {
        samples(line).unwrap().remove(0)
    }

    #[test]
    fn a_sample_has_its_name_its_labels_and_its_value_whatever_is_in_them() {
        let plain = one("moth_host_cpu_share 0.5");
        assert_eq!((plain.name.as_str(), plain.value), ("moth_host_cpu_share", Some(0.5)));
        let labelled = one(r#"moth_x{program="plate \"stitch\"\\, {2}",core="7"} 1e3 1712345678"#);
        assert_eq!(labelled.label("program"), Some(r#"plate "stitch"\, {2}"#));
        assert_eq!((labelled.label("core"), labelled.label("host"), labelled.value), (Some("7"), None, Some(1000.0)));
        assert_eq!(one("moth_x{} 1").label("core"), None);
        assert_eq!(one("moth_celsius NaN").value, None);
        assert_eq!(one("moth_celsius +Inf").value, None);
    }

    #[test]
    fn comments_are_passed_over_and_what_is_no_sample_is_named() {
        assert_eq!(samples("# HELP moth_x What.\n\n# EOF\n"), Ok(Vec::new()));
        for wrong in ["<html>", "moth_x", "moth_x abc", "moth_x{a=\"b} 1", "moth_x{a=b} 1", "7up 1", "{a=\"b\"} 1"] {
            assert!(samples(wrong).is_err_and(|why| why.contains(&wrong[..3])), "{wrong}");
        }
    }
}
