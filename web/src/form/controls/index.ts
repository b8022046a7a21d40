import type { ComponentType } from "react";
import type { Kind } from "../kind";
import { AskedControl } from "./AskedControl";
import { OneOfControl, SeveralControl, YesNoControl } from "./ChoiceControls";
import { ExpressionControl } from "./ExpressionControl";
import { FileControl } from "./FileControl";
import { KeepControl } from "./KeepControl";
import { JsonControl, ListControl } from "./ListControls";
import { NumberControl } from "./NumberControl";
import { PairsControl } from "./PairsControl";
import { PickerControl } from "./Picker";
import type { ControlProps } from "./props";
import { RowsControl } from "./RowsControl";
import { SortKeysControl } from "./SortKeysControl";
import { LongTextControl, SecretControl, TextControl } from "./TextControl";
import { DateControl, DurationControl, MomentControl } from "./TimeControls";
import { TotalsControl } from "./TotalsControl";
import { ListRowControl, WorkflowControl, WorkspaceListControl } from "./NamedControls";

/** The control of each kind. Cases and steps are lines of their own. */
export const controls: Record<Exclude<Kind, "cases" | "steps">, ComponentType<ControlProps>> = {
  picker: PickerControl,
  expression: ExpressionControl,
  sort_keys: SortKeysControl,
  totals: TotalsControl,
  keep: KeepControl,
  yes_no: YesNoControl,
  whole: NumberControl,
  number: NumberControl,
  one_of: OneOfControl,
  several: SeveralControl,
  list: ListControl,
  rows: RowsControl,
  asked: AskedControl,
  workflow: WorkflowControl,
  workspace_list: WorkspaceListControl,
  list_row: ListRowControl,
  pairs: PairsControl,
  json: JsonControl,
  date: DateControl,
  moment: MomentControl,
  duration: DurationControl,
  secret: SecretControl,
  file: FileControl,
  long_text: LongTextControl,
  text: TextControl,
};
