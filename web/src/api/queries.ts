import { MutationCache, type Query, QueryCache, QueryClient } from "@tanstack/react-query";
import { Problem } from "./client";
import { isLive } from "./live";
import { isPast } from "./past";
import { restOf } from "./touch";

/** Who is there is asked again when an answer says that nobody is: sign-in then opens. */
const signedOut = (error: Error) => {
	if (error instanceof Problem && error.status === 401) {
		void queries.invalidateQueries({ queryKey: ["me"] }, { cancelRefetch: false });
	}
};

/**
 * What is on the screen stays while the service is away: a failed refresh is told on top
 * of the page, and tried again. While events come in nothing is asked by the clock but
 * what tells of time.
 */
export const queries: QueryClient = new QueryClient({
	queryCache: new QueryCache({ onError: (e, query) => query.queryKey[0] !== "me" && signedOut(e) }),
	mutationCache: new MutationCache({ onError: signedOut }),
	defaultOptions: {
		queries: {
			staleTime: (query) => (isPast(query as Query) ? Number.POSITIVE_INFINITY : 1000),
			refetchInterval: (query) => {
				if (isPast(query as Query) || (query.state.error instanceof Problem && query.state.error.status === 401)) {
					return false;
				}
				return query.state.error ? 10_000 : restOf(query.queryKey, isLive());
			},
			refetchOnWindowFocus: false,
			retry: (n, error) => n < 2 && !(error instanceof Problem && error.status >= 400 && error.status < 500),
			retryDelay: 500,
		},
	},
});
