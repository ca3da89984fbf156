import { useQuery } from "@tanstack/react-query";
import { gull } from "../api/client";

/** useMayChange reports whether who is signed in may change things. */
export function useMayChange(): boolean {
	const me = useQuery({ queryKey: ["me"], queryFn: gull.me });
	return me.data?.role === "administrator";
}
