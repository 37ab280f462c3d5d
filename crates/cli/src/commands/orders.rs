use crate::api::{ClientArgs, Page, api_path};
use crate::error::CommandError;
use crate::terminal::outln;
use crate::{show, ui};
use wirewatch_service::view::{OrderStory, Orders};

/// List orders along their milestones, newest first
#[derive(Debug, clap::Args)]
pub struct OrdersArgs {
    /// Only this plan
    #[arg(long, default_value = "")]
    plan: String,
    /// Only this partner
    #[arg(long, default_value = "")]
    partner: String,
    /// Only this state: open, trouble or done
    #[arg(long, default_value = "")]
    state: String,
    #[command(flatten)]
    page: Page,
}

/// Show one order: its milestones with times, and its messages
#[derive(Debug, clap::Args)]
pub struct OrderArgs {
    /// The order's key, e.g. the purchase order number
    key: String,
    /// Print as JSON
    #[arg(long)]
    json: bool,
}

pub async fn list(client: &ClientArgs, args: &OrdersArgs) -> Result<(), CommandError> {
    let query = [
        ("plan", args.plan.clone()),
        ("partner", args.partner.clone()),
        ("state", args.state.clone()),
        ("before", args.page.before.clone()),
        ("limit", args.page.limit.to_string()),
    ];
    let page: Orders = client.client()?.get("/api/orders", &query).await?;
    if args.page.json {
        ui::json(&page);
    } else if page.orders.is_empty() {
        outln!("no orders");
    } else {
        show::orders(&page.orders);
        if let Some(next) = &page.next {
            outln!("{}", ui::paint(ui::DIM, format!("older: --before '{next}'")));
        }
    }
    Ok(())
}

pub async fn one(client: &ClientArgs, args: &OrderArgs) -> Result<(), CommandError> {
    let story: OrderStory = client.client()?.get(&api_path!("orders/{}", args.key), &[]).await?;
    if args.json {
        ui::json(&story);
        return Ok(());
    }
    for order in &story.orders {
        show::order(order);
    }
    show::events(&story.events);
    outln!();
    show::messages(&story.messages);
    let shown = story.messages.len();
    if usize::try_from(story.total).is_ok_and(|total| total > shown) {
        let rest = format!("the newest {shown} of {} messages; all: wirewatch messages --key '{}'", story.total, args.key);
        outln!("{}", ui::paint(ui::DIM, rest));
    }
    Ok(())
}
