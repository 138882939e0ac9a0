import { useEffect, useState } from "react";
import { useService } from "./queries";

/** The shop's time now: what the service said, and what has passed since, at the shop's pace. */
export function useShopTime(): Date {
  const { data: service, dataUpdatedAt: asked } = useService();
  const [, tick] = useState(0);
  useEffect(() => {
    const timer = setInterval(() => tick((n) => n + 1), 1000);
    return () => clearInterval(timer);
  }, []);
  if (!service) return new Date();
  return new Date(Date.parse(service.time) + (Date.now() - asked) * service.factor);
}
