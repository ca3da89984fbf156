import { QueryClient } from "@tanstack/react-query";
import { Problem } from "./client";

/**
 * What is on the screen stays while the service is away: a failed refresh is
 * told on top of the page, and tried again.
 */
export const queries = new QueryClient({
	defaultOptions: {
		queries: {
			staleTime: 1000,
			refetchInterval: 10_000,
			retry: (n, error) => n < 2 && !(error instanceof Problem && error.status >= 400 && error.status < 500),
			retryDelay: 500,
		},
	},
});
