import { useQuery } from "@tanstack/react-query";
import { gull, type Who } from "../api/client";

export type Area = Who["may"][number];

/** useMay reports whether the role of who is signed in has an area. */
export function useMay(area: Area): boolean {
	const me = useQuery({ queryKey: ["me"], queryFn: gull.me });
	return me.data?.may.includes(area) ?? false;
}

const none: string[] = [];

/** useBounds are the domains that whoever is signed in is bounded to; none is no bound. */
export function useBounds(): string[] {
	const me = useQuery({ queryKey: ["me"], queryFn: gull.me });
	return me.data?.domains ?? none;
}

/** useMayChange reports whether who is signed in may change settings. */
export const useMayChange = () => useMay("settings");

/** useMayWork reports whether who is signed in may act on the queue, held messages and snags. */
export const useMayWork = () => useMay("work");
