import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Text } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useRef } from "react";
import { gull, Problem } from "../api/client";
import { piece } from "../api/piece";
import { SignIn } from "../pages/sign-in";
import { Loading } from "../parts/loading";

const read = () => piece(() => import("./app"));
const App = lazy(read);
const OwnPage = lazy(() => piece(() => import("../pages/own")).then((m) => ({ default: m.OwnPage })));
const first = () => piece(() => import("../pages/first"));
const FirstOperator = lazy(() => first().then((m) => ({ default: m.FirstOperator })));
const FirstSecond = lazy(() => first().then((m) => ({ default: m.FirstSecond })));
const FirstPassword = lazy(() => first().then((m) => ({ default: m.FirstPassword })));

/**
 * Gate asks who is there. Whoever is not signed in gets the sign-in page, and with it
 * only what that needs. When a session ends later, sign-in opens above the page, which
 * stays as it is, with what was typed into it.
 */
export function Gate() {
	if (window.location.pathname === "/mailbox") {
		return (
			<Suspense fallback={<Loading what={t`the page`} />}>
				<OwnPage />
			</Suspense>
		);
	}
	return <OperatorsGate />;
}

function OperatorsGate() {
	const me = useQuery({ queryKey: ["me"], queryFn: gull.me });
	const client = useQueryClient();
	const been = useRef(false);
	const second = useRef(false);
	const out = useRef(false); // while it is asked again there is no answer, and the form must stay
	if (me.error instanceof Problem && me.error.status === 401) {
		out.current = true;
	} else if (me.data) {
		been.current = true;
		out.current = false;
	}
	if (!been.current) {
		if (out.current && window.location.pathname === "/first" && window.location.hash) {
			return (
				<Suspense fallback={<Loading what={t`the page`} />}>
					<FirstOperator onDone={() => void client.resetQueries()} />
				</Suspense>
			);
		}
		if (out.current) {
			return <SignIn onField={() => void read()} />;
		}
		return me.error ? <Away text={me.error.message} /> : <Loading what={t`the console`} />;
	}
	if (me.data?.must_change) {
		return (
			<Suspense fallback={<Loading what={t`the page`} />}>
				<FirstPassword name={me.data.name} onDone={() => void client.resetQueries()} />
			</Suspense>
		);
	}
	// it stays until one goes on: the codes for recovery are shown only once
	second.current ||= me.data?.must_have_second_factor === true;
	if (second.current && me.data) {
		return (
			<Suspense fallback={<Loading what={t`the page`} />}>
				<FirstSecond
					name={me.data.name}
					onDone={() => {
						second.current = false;
						void client.resetQueries();
					}}
				/>
			</Suspense>
		);
	}
	return (
		<>
			<Suspense fallback={<Loading what={t`the console`} />}>
				<div inert={out.current}>
					<App />
				</div>
			</Suspense>
			{out.current && <SignIn again />}
		</>
	);
}

function Away({ text }: { text: string }) {
	return (
		<Alert color="buoy" m="xl" title={t`The service cannot be reached`}>
			<Text size="sm">
				<Trans>{text} The page tries again by itself.</Trans>
			</Text>
		</Alert>
	);
}
