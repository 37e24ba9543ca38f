import { HStack, Menu } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { ChevronDown } from "lucide-react";
import { Link, useNavigate } from "react-router";

import { api, unwrap } from "../api/client";
import { useActions, useDraft, useDrafts, useHead } from "../api/plan";
import { LinkButton } from "../parts/controls";

/** What is shown: the plan or one of its drafts; and the way to the others. */
export function DraftSwitch() {
  const { id } = useActions();
  const { name, draft_of: of } = useHead();
  const { data: drafts } = useDrafts();
  const navigate = useNavigate();
  const own = drafts?.find((draft) => draft.id === id);
  const open = drafts?.filter((draft) => draft.landed === null) ?? [];
  const go = (value: string): void => void navigate(value.includes("/") ? value : `/plans/${value}`);
  return (
    <Menu.Root positioning={{ placement: "bottom-start", strategy: "fixed" }} onSelect={({ value }) => go(value)}>
      <h1 className="plan-name" title={own ? `Draft ${name} of ${own.plan_name}` : name}>
        {own ? own.plan_name : of === null && name}
        {of !== null && (
          <>
            <span className="draft-name">/</span> draft {name}
          </>
        )}
      </h1>
      <Menu.Trigger asChild>
        <button type="button" className="bar-button" aria-label="Switch between the plan and its drafts">
          {of === null ? "Plan" : "Draft"} <ChevronDown size={13} aria-hidden />
        </button>
      </Menu.Trigger>
      <Menu.Positioner>
        <Menu.Content bg="sheet" maxW="340px">
          <Menu.Item value={of ?? id} fontWeight={of === null ? "600" : undefined}>
            The plan itself
          </Menu.Item>
          {open.map((draft) => (
            <Menu.Item key={draft.id} value={draft.id} fontWeight={draft.id === id ? "600" : undefined}>
              <span className="draft-item">
                Draft {draft.name}
                {draft.private && ", yours alone"}
                {draft.base < draft.latest && draft.id === id && ", behind the plan"}
              </span>
            </Menu.Item>
          ))}
          <Menu.Separator />
          <Menu.Item value={`/plans/${of ?? id}/drafts`}>
            {open.length ? "All drafts, a new one" : "A new draft"}
          </Menu.Item>
        </Menu.Content>
      </Menu.Positioner>
    </Menu.Root>
  );
}

/** The line above every view of a draft: that it is one, and how it stands to its plan. */
export function OnDraft() {
  const { id, tell } = useActions();
  const draft = useDraft();
  const queries = useQueryClient();
  const takingUp = useMutation({
    mutationFn: async () =>
      unwrap(await api.POST("/api/plans/{plan_id}/take-up", { params: { path: { plan_id: id } } })),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ["drafts"] }),
    onError: (error) => tell(error.message, true),
  });
  const behind = draft && draft.landed === null && draft.base < draft.latest;
  return (
    <HStack as="section" className="looking" aria-label="On a draft">
      {draft && (
        <>
          <span className="draft-told">
            Draft <b>{draft.name}</b>
            {draft.private && " (yours alone)"}
            {draft.landed !== null
              ? `: landed as revision ${draft.landed} of the plan.`
              : behind
                ? `, on revision ${draft.base}: the plan is at ${draft.latest}, and the two clash.`
                : `, on revision ${draft.base} of the plan, which stays as it is until this lands.`}
          </span>
          {draft.landed !== null ? (
            <LinkButton disabled={takingUp.isPending} onClick={() => takingUp.mutate()}>
              Work on it again
            </LinkButton>
          ) : (
            <Link className="plain-link" to={`/plans/${id}/drafts`}>
              {behind ? "Choose whose word stands" : "Beside the plan, land it"}
            </Link>
          )}
          <Link className="plain-link" to={`/plans/${draft.plan}`}>
            To the plan
          </Link>
        </>
      )}
    </HStack>
  );
}
