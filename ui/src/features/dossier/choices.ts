import type { DossierRequest } from "@/shared/api/client";

type Estimator = NonNullable<DossierRequest["estimator"]>;

/** The five estimators of historical volatility, and what each one sees. */
export const ESTIMATORS: { value: Estimator; label: string; sees: string }[] = [
  { value: "yang_zhang", label: "Yang–Zhang", sees: "gaps and the day's range" },
  { value: "parkinson", label: "Parkinson", sees: "the day's range only" },
  { value: "close_to_close", label: "close to close", sees: "closes only" },
  { value: "garman_klass", label: "Garman–Klass", sees: "open, close and range, no gaps" },
  { value: "rogers_satchell", label: "Rogers–Satchell", sees: "the range whatever the drift, no gaps" },
];

export const WINDOWS = [10, 21, 42, 63, 126, 252];
