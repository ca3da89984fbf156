/** What happened, as the service tells it. */
export type Happening = {
	at: string;
	kind: string;
	message_id: string;
	node: string;
	text: string;
	sender?: string;
	recipient?: string;
	client?: string;
	lane?: string;
	detail?: { refusal?: string; session_id?: string } | null;
};

/** live: events come in. away: they do not, and it is tried again. resting: nobody looks. */
export type LiveState = "live" | "away" | "resting";

/** What the stream tells a page. */
export type Told = { state: LiveState } | { events: Happening[] };

/** The kinds of events; a browser hears only of those that it names. */
const kinds = [
	"received",
	"delivered",
	"deferred",
	"bounced",
	"expired",
	"delayed",
	"action",
	"held",
	"gate",
	"report",
	"lane",
	"rejected",
	"setup",
	"lost",
];

/** The service beats every 10 s; after so many milliseconds without a word it is gone. */
const silent = 25_000;

/** How long after a break it is tried again, in milliseconds: longer each time. */
const pauses = [500, 1000, 2000, 5000, 10_000];

/** Events are told in bunches, this many milliseconds apart at least. */
const bunch = 150;

/** Stream hears the service's events, and comes back after any break. */
export class Stream {
	private source?: EventSource;
	private waiting: Happening[] = [];
	private breaks = 0;
	private flush?: ReturnType<typeof setTimeout>;
	private watch?: ReturnType<typeof setTimeout>;
	private retry?: ReturnType<typeof setTimeout>;
	state: LiveState = "resting";

	constructor(private readonly tell: (t: Told) => void) {}

	/** Begins to listen, if it does not already. */
	listen() {
		if (this.source || this.retry) {
			return;
		}
		if (this.state !== "live") {
			this.turn("away");
		}
		const source = new EventSource("/api/v1/live");
		this.source = source;
		for (const kind of kinds) {
			source.addEventListener(kind, (e) => {
				this.heard();
				this.waiting.push(JSON.parse(e.data));
				this.flush ??= setTimeout(() => {
					this.flush = undefined;
					const events = this.waiting;
					this.waiting = [];
					this.tell({ events });
				}, bunch);
			});
		}
		source.addEventListener("beat", () => this.heard());
		source.onopen = () => this.heard();
		source.onerror = () => this.broken();
		this.watch = setTimeout(() => this.broken(), silent);
	}

	/** Stops listening until it is told to. */
	rest() {
		this.close();
		clearTimeout(this.retry);
		this.retry = undefined;
		this.turn("resting");
	}

	private heard() {
		this.breaks = 0;
		clearTimeout(this.watch);
		this.watch = setTimeout(() => this.broken(), silent);
		this.turn("live");
	}

	private broken() {
		this.close();
		this.turn("away");
		const pause = pauses[Math.min(this.breaks++, pauses.length - 1)];
		clearTimeout(this.retry);
		this.retry = setTimeout(() => {
			this.retry = undefined;
			this.listen();
		}, pause);
	}

	private close() {
		this.source?.close();
		this.source = undefined;
		clearTimeout(this.watch);
	}

	private turn(state: LiveState) {
		if (state !== this.state) {
			this.state = state;
			this.tell({ state });
		}
	}
}
