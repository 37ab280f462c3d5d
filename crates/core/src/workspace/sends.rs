//! Steps that send to a broker: destination and properties of the message.

use super::Build;
use super::fields::{Fields, File};
use super::maps::Need;
use super::steps::Sofar;
use crate::broker::Broker;
use crate::expr::{Expr, Template};
use crate::flow::Publish;

/// A step being read, with what its expressions may speak of.
pub(super) struct Reading<'r, 'a, 'w> {
    pub build: &'r Build<'a>,
    pub file: &'r File<'a>,
    pub sofar: &'r Sofar<'w>,
}

impl Reading<'_, '_, '_> {
    /// `queue = "…"`, or `exchange = "…"` with `routing_key = "…"`; and the properties.
    pub fn publish(&self, broker: &Broker, connection: &str, inner: &Fields<'_>) -> Option<Publish> {
        let (exchange, key) = match (inner.has("exchange"), inner.has("queue")) {
            (true, false) => {
                let exchange = inner.text("exchange");
                if let Some(exchange) =
                    exchange.as_ref().filter(|exchange| broker.exchanges.iter().all(|known| known.name != exchange.value))
                {
                    let known = broker.exchanges.iter().map(|known| known.name.as_str());
                    let what = format!("[[exchange]] of {connection} named");
                    self.build.unknown(self.file, exchange.span.clone(), &what, &exchange.value, known);
                }
                (exchange?.value, self.template(inner, "routing_key"))
            }
            (false, true) => {
                let queue = self.template(inner, "queue");
                // A name that is worked out is known only when it runs.
                if let Some(queue) = queue.as_ref().filter(|queue| queue.expressions().next().is_none())
                    && broker.queue(queue.text()).is_none()
                {
                    let known = broker.queues.iter().map(|queue| queue.name.as_str());
                    let what = format!("[[queue]] of {connection} named");
                    self.build.unknown(self.file, inner.span.clone(), &what, queue.text(), known);
                }
                (String::new(), queue)
            }
            (true, true) | (false, false) => {
                let says = "write either exchange = \"…\" with routing_key = \"…\", or queue = \"…\"";
                self.file.error(inner.span.clone(), "flow::send", says, None);
                return None;
            }
        };
        let headers = inner.table("headers").map(|table| self.headers(&table)).unwrap_or_default();
        let publish = Publish {
            exchange,
            key: key?,
            headers,
            correlation_id: self.expr(inner, "correlation_id"),
            reply_to: self.expr(inner, "reply_to"),
            kind: self.expr(inner, "type"),
            priority: inner.whole("priority", 0..256).and_then(|priority| u8::try_from(priority).ok()),
            expires: inner.duration("expires"),
        };
        Some(publish)
    }

    fn headers(&self, table: &Fields<'_>) -> Vec<(String, Expr)> {
        let read = |(name, text): (String, super::fields::Text)| {
            let start = self.file.inside(&text.span);
            match crate::expr::parse(&text.value) {
                Ok(expr) => {
                    self.build.check_step_expr(self.file, start, &expr, Need::One, self.sofar);
                    Some((name, expr))
                }
                Err(error) => {
                    self.file.expr_error(start, error);
                    None
                }
            }
        };
        table.all_texts().into_iter().filter_map(read).collect()
    }

    fn template(&self, fields: &Fields<'_>, key: &'static str) -> Option<Template> {
        let (template, start) = fields.template(key)?;
        self.build.check_template(self.file, start, &template, self.sofar);
        Some(template)
    }

    fn expr(&self, fields: &Fields<'_>, key: &'static str) -> Option<Expr> {
        let (expr, start) = fields.expr(key)?;
        self.build.check_step_expr(self.file, start, &expr, Need::One, self.sofar);
        Some(expr)
    }
}
