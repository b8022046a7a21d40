import { useNavigate, useSearch } from "@tanstack/react-router";
import { mayShapeLists, useLists } from "../api/lists";
import { useMe } from "../api/session";
import { AddList } from "../lists/AddList";
import { Detail } from "../lists/Detail";
import { Nothing, Trouble, Waiting } from "../ui/parts";
import { plural } from "../ui/words";

/** Small tables that colleagues edit and workflows read. */
export function Lists() {
  const lists = useLists();
  const me = useMe();
  const search: { list?: string } = useSearch({ strict: false });
  const navigate = useNavigate();
  const all = lists.data?.lists ?? [];
  const chosen = all.find((l) => l.name === search.list) ?? all[0];
  const choose = (list?: string) => {
    void navigate({ to: "/lists", search: list === undefined ? {} : { list } });
  };
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-4">
      <div className="mb-3 flex items-center justify-between">
        <h1>Lists</h1>
        {mayShapeLists(me.data?.role) && (
          <AddList
            onAdded={(l) => {
              choose(l.name);
            }}
          />
        )}
      </div>
      <Trouble error={lists.error} />
      {lists.isPending && <Waiting what="Reading the lists" />}
      {lists.data && all.length === 0 && (
        <Nothing>
          There is no list yet. A list is a small table that colleagues edit here and workflows read: who is
          on duty, how words are spelled, who gets the plan of the day.
        </Nothing>
      )}
      {chosen && (
        <div className="grid gap-4 lg:grid-cols-[minmax(220px,2fr)_7fr]">
          <nav className="card self-start overflow-hidden" aria-label="Lists">
            <ul>
              {all.map((l) => (
                <li key={l.name} className="border-b border-rule last:border-0">
                  <button
                    className={`flex w-full items-baseline justify-between gap-2 px-3 py-2 text-left ${l.name === chosen.name ? "bg-tint" : "hover:bg-tint/60"}`}
                    aria-current={l.name === chosen.name}
                    onClick={() => {
                      choose(l.name);
                    }}
                  >
                    <span className="font-semibold">{l.title}</span>
                    <span className="text-xs whitespace-nowrap text-second">{plural(l.rows, "row")}</span>
                  </button>
                </li>
              ))}
            </ul>
          </nav>
          <Detail
            key={chosen.name}
            list={chosen}
            onRemoved={() => {
              choose();
            }}
          />
        </div>
      )}
    </div>
  );
}
