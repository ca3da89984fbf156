import { ask, streamed } from "./ask";
import type { components } from "./schema";

type Schemas = components["schemas"];

export type DNSRecord = Schemas["DNSRecord"];
export type Aspect = Omit<Schemas["Aspect"], "found" | "records"> & { found: string[]; records?: DNSRecord[] };
export type Readiness = Omit<Schemas["Readiness"], "points"> & { points: Aspect[] };
export type Looks = { last?: Readiness; changes: Schemas["Turn"][] };
export type Key = Schemas["DKIMKey"];
export type Step = Omit<Schemas["ProbeStep"], "lines" | "certificates"> & {
	lines?: Schemas["Spoken"][];
	certificates?: (Omit<Schemas["ShownCertificate"], "names"> & { names: string[] })[];
};
export type Conversation = Omit<Schemas["Conversation"], "steps"> & { steps: Step[] };
export type Probe = Omit<Schemas["Probe"], "steps" | "attempts"> & { steps: Step[]; attempts: Conversation[] };
export type ProbeOrder = {
	target?: string;
	routes?: string[];
	from?: string;
	message?: boolean;
	inwards?: string;
	client?: string;
};
/** A step of a probe that is under way, and of which host. */
export type Heard = { host?: string; step: Step };
export type PublishStep = Schemas["PublishStep"];
export type PublishPlan = Omit<Schemas["PublishPlan"], "steps"> & { steps: PublishStep[] };
export type ReportedSender = Omit<Schemas["FeedbackSender"], "of"> & { of: string[] };
export type Feedback = Omit<Schemas["Feedback"], "senders" | "days" | "tls"> & {
	senders: ReportedSender[];
	days: Schemas["FeedbackDay"][];
	tls: (Omit<Schemas["FeedbackTLS"], "reporters"> & { reporters: string[] })[];
};
export type DNSChange = Schemas["DNSChange"];
export type Finding = Schemas["Finding"];
export type Review = { items: Finding[]; rules: number };

const seg = encodeURIComponent;

export const sound = {
	readiness: () => ask<{ items: Readiness[] }>("GET", "readiness"),
	ready: (domain: string) => ask<Looks>("GET", `readiness/${seg(domain)}`),
	look: (domain: string) => ask<Readiness>("POST", `readiness/${seg(domain)}/check`),
	plan: (domain: string, points: string[]) =>
		ask<PublishPlan>("POST", `readiness/${seg(domain)}/publish/plan`, { points }),
	publish: (domain: string, points: string[], mark: string) =>
		ask<PublishPlan>("POST", `readiness/${seg(domain)}/publish`, { points, mark }),
	dnsChanges: (domain: string) => ask<{ items: DNSChange[] }>("GET", `dns-changes?domain=${seg(domain)}`),
	feedback: (domain: string) => ask<Feedback>("GET", `feedback/domains/${seg(domain)}`),
	nameSender: (source: string, name: string) => ask<void>("PUT", `feedback/sources/${seg(source)}`, { name }),
	takeBack: (id: number) => ask<DNSChange>("POST", `dns-changes/${id}/take-back`),
	keys: (domain: string) => ask<{ items: Key[] }>("GET", `dkim?domain=${seg(domain)}`),
	makeKey: (body: { domain: string; algorithm: string; takes_over: boolean }) => ask<Key>("POST", "dkim", body),
	doKey: (k: Key, verb: "check" | "use" | "retire") =>
		ask<Key>("POST", `dkim/${seg(k.domain)}/${seg(k.selector)}/${verb}`, verb === "use" ? {} : undefined),
	removeKey: (k: Key) => ask<void>("DELETE", `dkim/${seg(k.domain)}/${seg(k.selector)}`),
	/** Probes, and tells of each step as it is over. */
	probe: (order: ProbeOrder, tell: (s: Heard) => void) =>
		streamed<Probe>("probe/live", order, "application/json", (l) => l.step && tell(l.step)),
	review: (draft: boolean) => ask<Review>("GET", `review?draft=${draft}`),
	fix: (key: string) => ask<Schemas["Done"]>("POST", "review/fix", { key }),
	accept: (key: string, because: string) => ask<void>("POST", "review/accept", { key, because }),
	reopen: (key: string) => ask<void>("POST", "review/reopen", { key }),
};
