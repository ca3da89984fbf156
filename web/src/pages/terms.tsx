import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Code, Stack, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { Fragment } from "react";
import { gull } from "../api/client";
import { Heading } from "../parts/heading";
import { Failed, Loading } from "../parts/states";

/** What our own terms mean, with an example of each. */
export function TermsPage() {
	const terms = useQuery({ queryKey: ["terms"], queryFn: gull.terms, staleTime: Number.POSITIVE_INFINITY });
	if (!terms.data) {
		return terms.error ? <Failed error={terms.error} /> : <Loading what={t`the terms`} />;
	}
	return (
		<Stack gap="sm" maw={880}>
			<Heading>
				<Trans>Terms</Trans>
			</Heading>
			<Text size="sm" c="dimmed">
				<Trans>Our own words, where the trade has none. On the command line: gull help terms.</Trans>
			</Text>
			<section className="surface">
				<Stack gap="sm" p="sm">
					{terms.data.items.map((t) => (
						<div key={t.name} id={t.name.replace(" ", "-")}>
							<Text fw={600}>{t.name}</Text>
							<Text size="sm">{t.means}</Text>
							<Text size="sm" c="dimmed">
								<Marked text={t.example} />
							</Text>
						</div>
					))}
				</Stack>
			</section>
		</Stack>
	);
}

/** Text in which what stands between backquotes is a command. */
function Marked({ text }: { text: string }) {
	return text.split("`").map((part, i) => {
		const key = `${i} ${part}`;
		return i % 2 === 1 ? <Code key={key}>{part}</Code> : <Fragment key={key}>{part}</Fragment>;
	});
}
